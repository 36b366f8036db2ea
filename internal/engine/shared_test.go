package engine

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/event"
	"imbricat/internal/spec/division"
)

// TestImagesOnOneStage: two images on one stage, of which the lock divides one, are both made, whichever comes first.
func TestImagesOnOneStage(t *testing.T) {
	text := "imbricat: 1\nstages:\n  tables:\n    base: none\n    steps:\n      - copy: {from: a, to: /a}\n      - copy: {from: b, to: /b}\n" +
		"images:\n  gauge: {base: {stage: tables}, platforms: [linux/amd64], steps: [{write: {to: /g, text: g}}]}\n" +
		"  almanac: {base: {stage: tables}, platforms: [linux/amd64], steps: [{write: {to: /l, text: l}}]}\n"
	rules, err := division.New([][]string{{"/"}, {"/b/", "/g"}})
	require.NoError(t, err)
	digests := map[string]bool{}
	for range 30 {
		s := newSite(t)
		s.write("a/1", "one")
		s.write("a/2", "two")
		s.write("b/1", "three")
		s.divisions = map[string]*division.Rules{"gauge": rules}
		result, err := s.build(text)
		require.NoError(t, err)
		require.Len(t, result.Images, 2)
		digests[fmt.Sprint(result.Images[0].Descriptor.Digest, result.Images[1].Descriptor.Digest)] = true
	}
	require.Len(t, digests, 1)
}

// TestKeepGoingLosesNothing: an image that fails while it was the first to ask for a stage does not take along another
// image that needs the same stage.
func TestKeepGoingLosesNothing(t *testing.T) {
	text := "imbricat: 1\nstages:\n  tables:\n    base: none\n    steps:\n      - copy: {from: tables, to: /t}\n" +
		"images:\n  bulletin:\n    base: none\n    platforms: [linux/amd64]\n    steps:\n      - copy: {from: bad, to: /b}\n      - take: {from: tables, paths: /t, to: /t}\n" +
		"  almanac: {base: none, platforms: [linux/amd64], steps: [{take: {from: tables, paths: /t, to: /t}}]}\n"
	for n := range 40 {
		s := newSite(t)
		s.keepGoing = true
		s.write("bad/1", strings.Repeat("bad", 10_000)) // small files are held from the moment they are hashed
		for i := range 50 {
			s.write(fmt.Sprintf("tables/%d", i), "table")
		}
		failed := make(chan struct{})
		var once sync.Once
		s.watch = func(e event.Event) {
			switch e := e.(type) {
			case event.Started:
				if e.Task.Unit == "bulletin" && e.Act == "packing" {
					_ = os.Remove(filepath.Join(s.dir, "bad/1")) // it packs another layer too
				}
				if e.Task.Unit == "tables" && e.Act == "reading" { // until the image that may have asked first has failed
					select {
					case <-failed:
						time.Sleep(5 * time.Millisecond)
					case <-time.After(2 * time.Second):
					}
				}
			case event.Finished:
				if e.Task.Unit == "bulletin" && e.Outcome == event.Failed {
					once.Do(func() { close(failed) })
				}
			}
		}
		result, err := s.build(text)
		require.Error(t, err)
		require.Contains(t, err.Error(), "bulletin")
		require.NotContains(t, err.Error(), "canceled")
		require.Len(t, result.Images, 1, "round %d: %s", n, err)
		require.Equal(t, "almanac", result.Images[0].Name)
	}
}

// TestEmptySteps: a step that lays nothing down is no layer, neither in its own image nor in one that starts from its stage.
func TestEmptySteps(t *testing.T) {
	s := newSite(t)
	nothing := "{remove: [/none], silence: [no-match]}"
	result, err := s.build("imbricat: 1\nstages:\n  tables: {base: none, steps: [{write: {to: /a, text: a}}, " + nothing + "]}\n" +
		"images:\n  gauge: {base: {stage: tables}, platforms: [linux/amd64], steps: [" + nothing + ", {write: {to: /g, text: g}}]}\n")
	require.NoError(t, err)
	require.Equal(t, 2, result.Images[0].Platforms[0].Layers)
	require.Len(t, result.Steps, 4)
	for _, i := range []int{1, 2} {
		require.Equal(t, event.LaysNothing, result.Steps[i].Reason)
	}
}

// TestStagesAreRecalled: what a stage copies is neither read nor laid down again while nothing changes, and is when anything does.
func TestStagesAreRecalled(t *testing.T) {
	s := newSite(t)
	s.later = time.Hour
	s.write("a/1", "one")
	reads := 0
	s.watch = func(e event.Event) {
		if began, is := e.(event.Started); is && began.Task.Unit == "tables" && began.Act == "reading" {
			reads++
		}
	}
	text := "imbricat: 1\nstages:\n  tables: {base: none, steps: [{copy: {from: a, to: /a}}]}\n" +
		"images:\n  gauge: {base: none, platforms: [linux/amd64], steps: [{take: {from: tables, paths: /a, to: /b}}]}\n"
	build := func() (string, int) {
		reads = 0
		result, err := s.build(text)
		require.NoError(t, err)
		return string(result.Images[0].Descriptor.Digest), reads
	}
	first, n := build()
	require.Equal(t, 1, n)
	again, n := build()
	require.Equal(t, first, again)
	require.Zero(t, n, "it is known by the stats of its files")
	s.write("a/1", "two")
	changed, n := build()
	require.NotEqual(t, first, changed)
	require.Equal(t, 1, n)
	again, n = build()
	require.Equal(t, changed, again)
	require.Zero(t, n)
}
