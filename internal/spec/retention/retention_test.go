package retention

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"imbricat/internal/ground/digest"
)

var now = time.Date(2027, 1, 31, 12, 0, 0, 0, time.UTC)

func days(n int) time.Time { return now.Add(-time.Duration(n) * 24 * time.Hour) }

func TestDecide(t *testing.T) {
	tags := []Tag{{"1.4.0", "sha256:a", days(400)}, {"newest", "sha256:b", days(1)}, {"pr-7", "sha256:b", days(40)}, {"pr-6", "sha256:c", days(50)}, {"pr-5", "sha256:d", days(60)}, {"old", "sha256:e", time.Time{}}}
	for _, c := range []struct {
		rule Rule
		kept []string
	}{
		{Rule{Keep: []string{"[0-9]*"}}, []string{"1.4.0", "old"}},
		{Rule{Newest: 2}, []string{"newest", "pr-7", "pr-6", "old"}},
		{Rule{Newest: 1, Drop: []string{"pr-*"}}, []string{"newest", "old"}},
		{Rule{Newest: 1, Drop: []string{"newest", "pr-*"}, Moving: []string{"newest", "pr-5"}}, []string{"newest", "pr-5", "old"}},
		{Rule{Newest: 1, Younger: 45 * 24 * time.Hour}, []string{"newest", "pr-7", "pr-6", "old"}},
		{Rule{Keep: []string{"*"}}, []string{"1.4.0", "newest", "pr-7", "pr-6", "pr-5", "old"}},
	} {
		var kept []string
		for _, v := range Decide(tags, c.rule, now) {
			require.NotEmpty(t, v.Reason)
			if v.Keep {
				kept = append(kept, v.Name)
			}
		}
		require.Equal(t, c.kept, kept, "%+v", c.rule)
	}
	// Images that tell no time go by their versions, where all that no pattern keeps have one.
	versions := []Tag{{"1.9.0", "sha256:a", time.Time{}}, {"1.10.0", "sha256:b", time.Time{}}, {"1.10", "sha256:b", time.Time{}}, {"base-x", "sha256:c", time.Time{}}, {"1.8.0", "sha256:d", time.Time{}}}
	var kept []string
	for _, v := range Decide(versions, Rule{Newest: 1, Keep: []string{"base-*"}}, now) {
		if v.Keep {
			kept = append(kept, v.Name)
		}
	}
	require.Equal(t, []string{"1.10.0", "1.10", "base-x"}, kept)
	for _, v := range Decide(versions, Rule{Newest: 1}, now) {
		require.True(t, v.Keep, "base-x has no version, and its age is unknown")
	}
	require.ErrorIs(t, Rule{}.Check(), ErrEmpty)
	require.Error(t, Rule{Keep: []string{"["}}.Check())
	require.Error(t, Rule{Newest: -1}.Check())
	require.NoError(t, Rule{Newest: 1}.Check())
}

// TestDoomed: whatever the tags, the indexes and the verdicts, nothing goes that a kept tag reaches, and all else does that a
// tag that goes reaches; what contains others goes before them.
func TestDoomed(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		names := []digest.Digest{"sha256:a", "sha256:b", "sha256:c", "sha256:d", "sha256:e", "sha256:f"}
		below := map[digest.Digest][]digest.Digest{}
		for i, d := range names { // only later ones, so there are no circles
			for _, child := range names[i+1:] {
				if rapid.Bool().Draw(t, "lists") {
					below[d] = append(below[d], child)
				}
			}
		}
		var verdicts []Verdict
		for range rapid.IntRange(0, 6).Draw(t, "tags") {
			verdicts = append(verdicts, Verdict{Tag: Tag{Digest: rapid.SampledFrom(names).Draw(t, "on")}, Keep: rapid.Bool().Draw(t, "keep")})
		}
		reach := func(keep bool) map[digest.Digest]bool {
			all := map[digest.Digest]bool{}
			var add func(d digest.Digest)
			add = func(d digest.Digest) {
				all[d] = true
				for _, child := range below[d] {
					add(child)
				}
			}
			for _, v := range verdicts {
				if v.Keep == keep {
					add(v.Digest)
				}
			}
			return all
		}
		kept, gone := reach(true), reach(false)
		doomed := Doomed(verdicts, func(d digest.Digest) []digest.Digest { return below[d] })
		for _, d := range names {
			require.Equal(t, gone[d] && !kept[d], slices.Contains(doomed, d), d)
			for _, child := range below[d] {
				if i, j := slices.Index(doomed, d), slices.Index(doomed, child); i >= 0 && j >= 0 {
					require.Less(t, i, j)
				}
			}
		}
		require.Len(t, doomed, len(slices.Compact(slices.Sorted(slices.Values(doomed)))))
	})
}

func TestCompare(t *testing.T) {
	tags := []string{"newest", "1", "1.4", "v1.10.0", "1.4.0", "1.4.0-rc1", "1.9.2", "main", "1.4.10", "59716e0", "6818475"}
	slices.SortFunc(tags, Compare)
	require.Equal(t, []string{"v1.10.0", "1.9.2", "1.4.10", "1.4.0", "1.4", "1.4.0-rc1", "1", "59716e0", "6818475", "main", "newest"}, tags)
}

func TestParseAge(t *testing.T) {
	for text, want := range map[string]time.Duration{"30d": 720 * time.Hour, "2w": 336 * time.Hour, "12h": 12 * time.Hour, "90m": 90 * time.Minute} {
		got, err := ParseAge(text)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	for _, text := range []string{"", "d", "-3d", "3 days", "1e9d"} {
		_, err := ParseAge(text)
		require.Error(t, err, text)
	}
}

// TestPrefixes: only whole versions have moving prefixes, and these never go below the highest version that is there.
func TestPrefixes(t *testing.T) {
	for tag, want := range map[string][]string{"1.4.0": {"1.4", "1"}, "v1.14.2": {"v1.14", "v1"}, "0.9.1": {"0.9", "0"}, "1.4": nil, "1.4.0-rc1": nil, "1.04.0": nil, "newest": nil, "1.4.0+b": nil} {
		require.Equal(t, want, Prefixes(tag), tag)
	}
	there := []string{"1.4.1", "1.10.0", "1.9.3", "2.0.0", "v1.20.0", "1.99.0-rc1", "newest"}
	for _, c := range []struct{ prefix, version, want string }{
		{"1", "1.10.1", ""}, {"1", "1.9.4", "1.10.0"}, {"1.9", "1.9.4", ""}, {"1.4", "1.4.0", "1.4.1"}, {"1.4", "1.4.1", ""}, {"v1", "v1.3.0", "v1.20.0"}, {"3", "3.0.0", ""},
	} {
		require.Equal(t, c.want, Above(c.prefix, c.version, there), "%+v", c)
	}
	rapid.Check(t, func(t *rapid.T) {
		version := rapid.Custom(func(t *rapid.T) string { return rapid.StringMatching(`[0-3]\.[0-3]\.[0-3]`).Draw(t, "version") })
		tags := rapid.SliceOf(version).Draw(t, "tags")
		// Whatever the order in which versions are written, a prefix ends on the highest one.
		stands, written := map[string]string{}, []string{}
		for _, tag := range tags {
			for _, prefix := range Prefixes(tag) {
				if Above(prefix, tag, written) == "" {
					stands[prefix] = tag
				}
			}
			written = append(written, tag)
		}
		for prefix, tag := range stands {
			require.Empty(t, Above(prefix, tag, tags))
		}
	})
}

// TestGroups: images with certain tags are counted by themselves, each branch apart; what is in use stays, with all of its tags.
func TestGroups(t *testing.T) {
	tags := []Tag{{"spring-3", "sha256:s3", days(1)}, {"spring-2", "sha256:s2", days(20)}, {"spring-1", "sha256:s1", days(30)},
		{"neap-9", "sha256:n9", days(90)}, {"neap-8", "sha256:n8", days(91)}, {"1.4.0", "sha256:a", days(400)}, {"1.3.0", "sha256:b", days(500)}, {"lost-1", "sha256:x", time.Time{}}}
	for _, c := range []struct {
		said, kept string
	}{
		{"{of: [{match: '(*)-[0-9]', newest: 1}]}", "spring-3 neap-9 lost-1"},
		{"{of: [{match: '*-*', newest: 2}]}", "spring-3 spring-2 lost-1"},
		{"{of: [{match: '(*)-*', newest: 1, younger: 25d}], newest: 1}", "spring-3 spring-2 neap-9 1.4.0 lost-1"},
		{"{of: [{match: 'neap-*', newest: 1}, {match: '(*)-*', newest: 9}]}", "spring-3 spring-2 spring-1 neap-9 lost-1"},
		{"{keep: ['1.*'], of: [{match: '*', newest: 1}]}", "spring-3 1.4.0 1.3.0 lost-1"},
		{"{of: [{match: 'spring.3', newest: 5}], newest: 1}", "spring-3 lost-1"},
	} {
		said, err := ParseSaid([]byte(c.said))
		require.NoError(t, err)
		rule, err := said.Rule()
		require.NoError(t, err)
		require.Equal(t, c.kept, keptBy(t, tags, rule), c.said)
	}
	rule := Rule{Newest: 1, Drop: []string{"1.*"}, InUse: map[digest.Digest]string{"sha256:b": "cluster.yaml"}}
	require.Equal(t, "spring-3 1.3.0 lost-1", keptBy(t, tags, rule))
	for _, wrong := range []string{"{of: [{match: '', newest: 1}]}", "{of: [{match: '(', newest: 1}]}", "{of: [{match: '[', newest: 1}]}", "{of: [{match: x}]}", "{of: [{match: x, newest: -1}]}", "{age: old, newest: 1}", "{of: [{match: x, younger: soon}]}"} {
		said, err := ParseSaid([]byte(wrong))
		require.NoError(t, err)
		_, err = said.Rule()
		require.Error(t, err, wrong)
	}
	said := &Said{}
	require.NoError(t, said.Add("(*)-*=3,14d"))
	require.NoError(t, said.Add("x=y=2"))
	require.Equal(t, []saidGroup{{"(*)-*", 3, "14d"}, {"x=y", 2, ""}}, said.Of)
	for _, wrong := range []string{"x", "=3", "x=", "x=soon", "x=3,,"} {
		require.Error(t, said.Add(wrong), wrong)
	}
}

func keptBy(t *testing.T, tags []Tag, rule Rule) string {
	var kept []string
	for _, v := range Decide(tags, rule, now) {
		require.NotEmpty(t, v.Reason)
		if v.Keep {
			kept = append(kept, v.Name)
		}
	}
	return strings.Join(kept, " ")
}

// TestSimulate: for any pushes and bounds, a simulated repository holds no more than the rule lets it, ends with what was pushed last, and
// holds all where the rule keeps all.
func TestSimulate(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var pushes []Push
		var all int64
		for n := range rapid.IntRange(2, 30).Draw(t, "pushes") {
			branch := rapid.SampledFrom([]string{"spring", "neap", "storm"}).Draw(t, "branch")
			p := Push{Tags: []string{fmt.Sprintf("%s-%d", branch, n), branch}, Time: days(rapid.IntRange(0, 60).Draw(t, "age")), Bytes: int64(rapid.IntRange(0, 100).Draw(t, "bytes"))}
			pushes, all = append(pushes, p), all+p.Bytes
		}
		newest, perBranch := rapid.IntRange(1, 5).Draw(t, "newest"), rapid.IntRange(1, 3).Draw(t, "of")
		points, err := Simulate(context.Background(), pushes, Rule{Of: []Group{{Match: "(*)-*", Newest: perBranch}}, Newest: newest}, now, 120, 30)
		every, everyErr := Simulate(context.Background(), pushes, Rule{Keep: []string{"*"}}, now, 120, 30)
		if err != nil {
			require.Error(t, everyErr)
			return
		}
		require.Len(t, points, 4)
		for i, p := range points {
			require.Equal(t, every[i].Pushed, p.Pushed)
			require.Equal(t, every[i].AllBytes, every[i].Bytes, "a rule that keeps all")
			require.Equal(t, p.AllBytes, every[i].AllBytes)
			require.LessOrEqual(t, p.Bytes, p.AllBytes)
			require.Positive(t, p.Images)
			// Each repetition has branches of its own, and tags that move stay with the newest.
			cycles := p.Pushed/len(pushes) + 1
			require.LessOrEqual(t, p.Images, newest+3*perBranch*cycles+3)
		}
		require.GreaterOrEqual(t, points[3].Pushed, 2*len(pushes), "60 days are repeated in 120")
		require.GreaterOrEqual(t, points[0].AllBytes, all)
	})
	_, err := Simulate(context.Background(), []Push{{Tags: []string{"a"}, Time: now}, {Tags: []string{"b"}}}, Rule{Newest: 1}, now, 10, 5)
	require.ErrorContains(t, err, "takes pushes at two times; 1 are known")
	_, err = Simulate(context.Background(), []Push{{Tags: []string{"a"}, Time: now}, {Tags: []string{"b"}, Time: now.Add(2 * time.Second)}}, Rule{Newest: 1}, now, 365, 30)
	require.ErrorContains(t, err, "lie within 2s")
	many := make([]Push, 40_000)
	for i := range many {
		many[i].Time = days(3).Add(time.Duration(i) * 3 * time.Second)
	}
	_, err = Simulate(context.Background(), many, Rule{Newest: 1}, now, 365, 30)
	require.ErrorContains(t, err, "give fewer days")
	ended, end := context.WithCancel(t.Context())
	end()
	_, err = Simulate(ended, []Push{{Tags: []string{"a"}, Time: days(9)}, {Tags: []string{"b"}, Time: now}}, Rule{Newest: 1}, now, 365, 30)
	require.ErrorIs(t, err, context.Canceled)
}
