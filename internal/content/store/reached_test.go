package store

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"imbricat/internal/ground/digest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestReached: a list stays sorted and bounded, loses no count, and is the same in whatever order things come.
func TestReached(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		one := rapid.Custom(func(t *rapid.T) Reached {
			return Reached{To: rapid.SampledFrom([]string{"a.example:80", "b.example:443", "http://a.example/x"}).Draw(t, "to"), Times: rapid.IntRange(1, 3).Draw(t, "times"), Bytes: rapid.Int64Range(0, 9).Draw(t, "bytes"),
				Status: rapid.SampledFrom([]int{0, 200, 404}).Draw(t, "status"), Problem: rapid.SampledFrom([]Problem{"", NotListed, Unreachable}).Draw(t, "problem")}
		})
		given := rapid.SliceOf(one).Draw(t, "given")
		var list, backward []Reached
		times, bytes := 0, int64(0)
		for i := range given {
			list, backward = AddReached(list, given[i]), AddReached(backward, given[len(given)-1-i])
			times, bytes = times+given[i].Times, bytes+given[i].Bytes
		}
		require.Equal(t, list, backward)
		require.True(t, slices.IsSortedFunc(list, compareReached))
		for _, r := range list {
			times, bytes = times-r.Times, bytes-r.Bytes
		}
		require.Zero(t, times)
		require.Zero(t, bytes)
	})
	var list []Reached
	for i := range 3 * MostReached {
		list = AddReached(list, Reached{To: fmt.Sprintf("h%d.example:80", i), Times: 1, Bytes: 2, Status: 200})
	}
	require.Len(t, list, MostReached+1)
	require.Contains(t, list, Reached{To: OtherHosts, Times: 2 * MostReached, Bytes: 4 * MostReached})
	list = AddReached(nil, Reached{To: "http://a.example/" + strings.Repeat("x", longestTo-len("http://a.example/")-1) + "é", Times: 1})
	require.Len(t, list[0].To, longestTo-1+len("…"), "a character is not cut")
}

// TestImportedReached: a record from elsewhere brings no more than a command here would.
func TestImportedReached(t *testing.T) {
	s, err := Open(t.TempDir())
	require.NoError(t, err)
	run := &Run{Key: digest.Key(digest.ContentBytes([]byte("command"))), Trace: digest.Key(digest.ContentBytes([]byte("trace"))), Reached: make([]Reached, 50*MostReached)}
	require.NoError(t, s.ImportRun(run))
	require.Len(t, s.Runs(run.Key)[0].Reached, MostReached)
}

// TestBroughtElse: an address counts that brought something else; one that was not asked for before, or of which nothing is known, does not.
func TestBroughtElse(t *testing.T) {
	list := func(all ...string) (list []Reached) {
		for _, one := range all {
			to, content, _ := strings.Cut(one, " ")
			list = AddReached(list, Reached{To: to, Times: 1, Content: digest.Digest(content)})
		}
		return list
	}
	before := list("http://a.example/1 sha256:11", "http://a.example/2 sha256:22", "http://a.example/2 sha256:23", "http://a.example/3", "b.example:443", "http://a.example/4 sha256:44")
	for _, c := range []struct{ now, want []string }{
		{[]string{"http://a.example/1 sha256:11", "http://a.example/2 sha256:23", "http://a.example/2 sha256:22", "http://a.example/3", "http://a.example/5 sha256:55"}, nil},
		{[]string{"http://a.example/1 sha256:12", "http://a.example/2 sha256:22", "http://a.example/3 sha256:33", "b.example:443"}, []string{"http://a.example/1", "http://a.example/2"}},
		{nil, nil},
	} {
		require.Equal(t, c.want, BroughtElse(before, list(c.now...)))
	}
}
