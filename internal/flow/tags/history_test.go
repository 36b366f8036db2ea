package tags

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/store"
	"imbricat/internal/ground/digest"
	"imbricat/internal/output/report"
)

// stood makes a history of words such as a, or a! for a move back to a, or - for a deletion, a minute apart.
func stood(text, from string, begins int) (list []report.TagStood) {
	for n, word := range strings.Fields(text) {
		one := report.TagStood{Time: time.Unix(int64(begins+n)*60, 0), From: from}
		if name, back := strings.CutSuffix(word, "!"); name != "-" {
			one.Digest = digest.Digest(name)
			if back {
				one.Why = backMark + "it leaks"
			}
		}
		if from == "receipt" {
			one.Receipt = "r" + word
		}
		list = append(list, one)
	}
	return list
}

// TestBeforeThat: what a tag stood on before is not what it was moved back from, however often it was.
func TestBeforeThat(t *testing.T) {
	for text, want := range map[string]string{
		"a": "", "a b": "a", "a b c": "b", "a b c b!": "a", "a b c b! a!": "", "a b a": "b", "a b c b! d": "b", "a b c b! d b!": "a",
		"a b - b": "a", "- a": "", "a -  b": "a", "b!": "", "a x! b": "x",
	} {
		got := beforeThat(stood(text, "registry", 0))
		if want == "" {
			require.Nil(t, got, text)
			continue
		}
		require.NotNil(t, got, text)
		require.Equal(t, want, string(got.Digest), text)
	}
}

// TestOlder: the registry's own log counts; what others tell is of the time before it, and tells of receipts.
func TestOlder(t *testing.T) {
	show := func(list []report.TagStood) string {
		var words []string
		for _, one := range list {
			words = append(words, strings.TrimSuffix(string(one.Digest)+"/"+one.From+"/"+one.Receipt, "/"))
		}
		return strings.Join(words, " ")
	}
	require.Equal(t, "x/receipt/rx a/registry/ra b/registry", show(older(stood("a b", "registry", 10), append(stood("x", "receipt", 1), stood("a", "receipt", 11)...))))
	require.Equal(t, "a/registry/ra b/registry", show(older(stood("a b", "registry", 10), append(stood("a", "receipt", 30), stood("c", "seen here", 31)...))), "another clock moves nothing behind what is logged")
	require.Equal(t, "a/receipt/ra b/receipt/rb a/seen here", show(older(nil, append(stood("a b", "receipt", 1), stood("b a", "seen here", 3)...))))
}

// TestSeen: what this machine saw and wrote is kept once each time that it changes, the newest, and survives damage.
func TestSeen(t *testing.T) {
	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	defer st.Close()
	s := &Seen{now: func() time.Time { return time.Unix(0, 0) }}
	s.Saw("h/r", "newest", "sha256:a")
	s.Saw("h/r", "newest", "sha256:a")
	s.Saw("h/other", "newest", "sha256:x")
	require.False(t, s.Written())
	s.Wrote("h/r", "newest", "sha256:b")
	require.True(t, s.Written())
	s.because("h/r", "newest", "back: why")
	require.Len(t, s.of(st, "h/r", "newest"), 3, "before it is kept too")
	require.NoError(t, s.Keep(st))
	again := &Seen{}
	again.Saw("h/r", "newest", "sha256:b")
	require.NoError(t, again.Keep(st))
	list := again.of(st, "h/r", "newest")
	require.Len(t, list, 2)
	require.Equal(t, sighting{"newest", "sha256:b", time.Unix(0, 0).UTC(), true, "back: why"}, list[1])
	require.Empty(t, again.of(st, "h/r", "1.4.0"))
	for range mostSeen {
		again.Saw("h/r", "1", "sha256:a")
		again.Saw("h/r", "1", "sha256:b")
	}
	require.NoError(t, again.Keep(st))
	require.Len(t, recall(st, "h/r"), mostSeen)
	require.NoError(t, st.PutMemo(memoOf("h/r"), []byte("{")))
	require.Empty(t, again.of(st, "h/r", "newest"))
}
