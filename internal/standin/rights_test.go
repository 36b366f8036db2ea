package standin

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/spf13/afero"
	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/notice"
)

// asking speaks to a server as a user, or with a token.
type asking struct {
	*testing.T
	server *Server
}

func (a asking) do(auth, method, path, body string, header ...string) *http.Response {
	r := httptest.NewRequest(method, path, strings.NewReader(body))
	if user, secret, is := strings.Cut(auth, ":"); is {
		r.SetBasicAuth(user, secret)
	} else if auth != "" {
		r.Header.Set("Authorization", "Bearer "+auth)
	}
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	w := httptest.NewRecorder()
	a.server.ServeHTTP(w, r)
	return w.Result()
}

// push puts an image of its own content under a tag, and gives the last answer.
func (a asking) push(auth, repository, tag, content string) *http.Response {
	blob := digest.FromBytes([]byte(content))
	resp := a.do(auth, "POST", "/v2/"+repository+"/blobs/uploads/?digest="+string(blob), content)
	if resp.StatusCode != http.StatusCreated {
		return resp
	}
	desc := digest.Descriptor{MediaType: v1.MediaTypeImageLayer, Digest: blob, Size: int64(len(content))}
	m := v1.Manifest{MediaType: v1.MediaTypeImageManifest, Config: desc, Layers: []digest.Descriptor{desc}}
	text, err := json.Marshal(m)
	require.NoError(a, err)
	return a.do(auth, "PUT", "/v2/"+repository+"/manifests/"+tag, string(text), "Content-Type", v1.MediaTypeImageManifest)
}

func rulesOf(t require.TestingT, text string) *Rules {
	r, err := ParseRules([]byte(text))
	require.NoError(t, err)
	return r
}

const someRules = `
create: by-hand
repositories:
  - {match: open/**, pull: [anybody], push: [harbour], delete: [harbour], fixed: ["[0-9]*"], quota: 1kB}
  - {match: secret/**, pull: [harbour], push: [harbour], delete: []}
  - {match: closed, closed: true}
`

// TestRights goes through who may do what, with names and secrets and with tokens: both allow the same.
func TestRights(t *testing.T) {
	for _, auth := range []Auth{AuthBasic, AuthToken} {
		s, err := New(Options{Auth: auth, Rules: rulesOf(t, someRules)})
		require.NoError(t, err)
		require.NoError(t, s.AddUser("harbour", "h4rbour"))
		require.NoError(t, s.AddUser("mole", "m0le"))
		for _, name := range []string{"open/gauge", "secret/gauge", "closed", "other"} {
			_, err := s.Create(name)
			require.NoError(t, err)
		}
		a := asking{t, s}
		// as gives the credentials for a scope: a token where tokens are asked for.
		as := func(user, repository, actions string) string {
			if auth == AuthBasic {
				return user
			}
			resp := a.do(user, "GET", "/token?service=stand-in&scope="+url.QueryEscape("repository:"+repository+":"+actions), "")
			require.Equal(t, 200, resp.StatusCode)
			var answer struct{ Token string }
			require.NoError(t, json.NewDecoder(resp.Body).Decode(&answer))
			return answer.Token
		}
		for _, c := range []struct {
			user, repository   string
			pull, push, remove bool
		}{
			{"", "open/gauge", true, false, false},
			{"mole:m0le", "open/gauge", true, false, false},
			{"harbour:h4rbour", "open/gauge", true, true, true},
			{"mole:m0le", "secret/gauge", false, false, false},
			{"harbour:h4rbour", "secret/gauge", true, true, false},
			{"mole:m0le", "other", true, true, true},
			{"", "other", false, false, false},
			{"mole:m0le", "closed", true, false, false},
			{"mole:m0le", "not-made", true, false, true},
		} {
			say := fmt.Sprint(auth, c)
			allowed := func(actions, method, path string) bool {
				status := a.do(as(c.user, c.repository, actions), method, "/v2/"+c.repository+path, "").StatusCode
				require.Contains(t, []int{200, 202, 401, 403, 404}, status, say)
				return status != 401 && status != 403
			}
			require.Equal(t, c.pull, allowed("pull", "GET", "/tags/list"), say)
			if c.repository != "not-made" {
				require.Equal(t, c.push, allowed("pull,push", "POST", "/blobs/uploads/"), say)
			}
			require.Equal(t, c.remove, allowed("pull,delete", "DELETE", "/manifests/none"), say)
		}
		require.Equal(t, 404, a.push(as("mole:m0le", "not-made", "pull,push"), "not-made", "1", "x").StatusCode, "repositories are made by hand")
		require.Equal(t, 401, a.do("mole:wrong", "GET", map[Auth]string{AuthBasic: "/v2/", AuthToken: "/token"}[auth], "").StatusCode)

		harbour := as("harbour:h4rbour", "open/gauge", "pull,push,delete")
		require.Equal(t, 201, a.push(harbour, "open/gauge", "1.4.0", "tide").StatusCode)
		require.Equal(t, 201, a.push(harbour, "open/gauge", "1.4.0", "tide").StatusCode, "the same again is not a move")
		moved := a.push(harbour, "open/gauge", "1.4.0", "ebb")
		require.Equal(t, 403, moved.StatusCode)
		require.Contains(t, text(moved), "is fixed on sha256:")
		require.Equal(t, 201, a.push(harbour, "open/gauge", "newest", "ebb").StatusCode)
		require.Equal(t, 403, a.do(harbour, "DELETE", "/v2/open/gauge/manifests/1.4.0", "").StatusCode)
		require.Equal(t, 202, a.do(harbour, "DELETE", "/v2/open/gauge/manifests/newest", "").StatusCode)
		large := a.push(harbour, "open/gauge", "large", strings.Repeat("x", 2000))
		require.Equal(t, 403, large.StatusCode)
		require.Contains(t, text(large), "would hold more than 1.0 kB")

		// Opening and closing by hand count before the rules.
		closed, open := true, false
		require.NoError(t, s.Change("open/gauge", "close", func(n *Note) { n.Closed = &closed }))
		require.Equal(t, 403, a.push(harbour, "open/gauge", "newest", "tide").StatusCode)
		require.NoError(t, s.Change("open/gauge", "open", func(n *Note) { n.Closed = &open; n.Push = []string{"mole"}; n.Pull = []string{"mole"} }))
		require.Contains(t, []int{401, 403}, a.push(harbour, "open/gauge", "newest", "tide").StatusCode)
		require.Equal(t, 201, a.push(as("mole:m0le", "open/gauge", "pull,push"), "open/gauge", "newest", "tide").StatusCode)
		require.Error(t, s.Change("no/such", "open", func(*Note) {}))

		events, err := s.Events(1000, "open/gauge")
		require.NoError(t, err)
		var story []string
		for _, e := range events {
			if e.What == "push" || e.What == "delete" || e.What == "close" || e.What == "open" {
				story = append(story, strings.TrimSpace(e.Who+" "+e.What+" "+e.Tag))
			}
			require.WithinDuration(t, time.Now(), e.Time, time.Minute)
		}
		require.Equal(t, []string{"harbour push 1.4.0", "harbour push 1.4.0", "harbour push newest", "harbour delete newest", "the keeper close", "the keeper open", "mole push newest"}, story)
	}
}

func text(r *http.Response) string {
	body, _ := io.ReadAll(r.Body)
	return string(body)
}

// TestTokens: tokens by hand, forged and ended ones, the form of OAuth2, and scopes that are cut down.
func TestTokens(t *testing.T) {
	s, err := New(Options{Auth: AuthToken, User: "harbour", Secret: "h4rbour", TokenLife: time.Second})
	require.NoError(t, err)
	a := asking{t, s}
	require.Equal(t, 201, a.push(mustIssue(t, s, "tides/*", "pull,push", time.Hour), "tides/gauge", "1", "x").StatusCode)
	reads := mustIssue(t, s, "tides/gauge", "pull", time.Hour)
	require.Equal(t, 200, a.do(reads, "GET", "/v2/tides/gauge/tags/list", "").StatusCode)
	require.Equal(t, 401, a.push(reads, "tides/gauge", "1", "x").StatusCode)
	require.Equal(t, 401, a.do(reads, "GET", "/v2/tides/bulletin/tags/list", "").StatusCode)
	require.Equal(t, 401, a.do(mustIssue(t, s, "**", "pull", -time.Second), "GET", "/v2/tides/gauge/tags/list", "").StatusCode)
	other, err := New(Options{Auth: AuthToken})
	require.NoError(t, err)
	require.Equal(t, 401, a.do(mustIssue(t, other, "**", "pull", time.Hour), "GET", "/v2/tides/gauge/tags/list", "").StatusCode, "another key")
	require.Equal(t, 401, a.do("eyJhbGciOiJub25lIn0.eyJzdWIiOiJoYXJib3VyIn0.", "GET", "/v2/tides/gauge/tags/list", "").StatusCode, "no signature")

	form := url.Values{"grant_type": {"password"}, "username": {"harbour"}, "password": {"h4rbour"}, "scope": {"repository:tides/gauge:pull repository:../x:pull nonsense"}}
	resp := a.do("", "POST", "/token", form.Encode(), "Content-Type", "application/x-www-form-urlencoded")
	require.Equal(t, 200, resp.StatusCode)
	var answer struct {
		Token     string `json:"token"`
		ExpiresIn int    `json:"expires_in"`
	}
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&answer))
	require.Equal(t, 1, answer.ExpiresIn)
	require.Equal(t, 200, a.do(answer.Token, "GET", "/v2/tides/gauge/tags/list", "").StatusCode)
	require.Eventually(t, func() bool { return a.do(answer.Token, "GET", "/v2/tides/gauge/tags/list", "").StatusCode == 401 }, 5*time.Second, 50*time.Millisecond)
	form.Set("password", "wrong")
	require.Equal(t, 401, a.do("", "POST", "/token", form.Encode(), "Content-Type", "application/x-www-form-urlencoded").StatusCode)

	// A token by hand is also the secret of its user, for the issuer.
	traded := a.do("pipeline:"+mustIssueFor(t, s, "pipeline", "tides/gauge", "pull", time.Hour), "GET", "/token?scope=repository:tides/gauge:pull,push", "")
	require.Equal(t, 200, traded.StatusCode)
	require.NoError(t, json.NewDecoder(traded.Body).Decode(&answer))
	require.Equal(t, 401, a.push(answer.Token, "tides/gauge", "1", "x").StatusCode, "and gives no more than it has")
}

func mustIssue(t *testing.T, s *Server, repository, allow string, life time.Duration) string {
	return mustIssueFor(t, s, "harbour", repository, allow, life)
}

func mustIssueFor(t *testing.T, s *Server, user, repository, allow string, life time.Duration) string {
	token, err := s.Issue(user, []string{repository}, strings.Split(allow, ","), life)
	require.NoError(t, err)
	return token
}

// TestClean: rules of retention and the collection of rubbish take what nothing lists, and nothing else; a young blob that
// a client counts on stays.
func TestClean(t *testing.T) {
	s, err := New(Options{Dir: t.TempDir(), Grace: time.Nanosecond, Rules: rulesOf(t, "repositories: [{match: '**', fixed: [\"1*\"], retain: {keep: [newest], newest: 1, drop: [pr-1]}}]")})
	require.NoError(t, err)
	a := asking{t, s}
	for _, one := range [][2]string{{"1.4.0", "a"}, {"pr-1", "b"}, {"pr-2", "c"}, {"newest", "b"}, {"pr-3", "d"}} {
		require.Equal(t, 201, a.push("", "tides/gauge", one[0], one[1]).StatusCode)
		time.Sleep(10 * time.Millisecond)
	}
	stray := digest.FromBytes([]byte("stray"))
	require.Equal(t, 201, a.do("", "POST", "/v2/tides/gauge/blobs/uploads/?digest="+string(stray), "stray").StatusCode)
	c, err := s.Clean()
	require.NoError(t, err)
	require.Equal(t, Cleaned{Tags: 2, Manifests: 1, Blobs: 3, Bytes: c.Bytes}, c, "pr-1 loses its name alone; pr-2 goes with its layer; the stray blob goes")
	require.Equal(t, `{"name":"tides/gauge","tags":["1.4.0","newest","pr-3"]}`+"\n", text(a.do("", "GET", "/v2/tides/gauge/tags/list", "")))
	for content, want := range map[string]int{"a": 200, "b": 200, "c": 404, "d": 200, "stray": 404} {
		require.Equal(t, want, a.do("", "GET", "/v2/tides/gauge/blobs/"+string(digest.FromBytes([]byte(content))), "").StatusCode, content)
	}
	again, err := s.Clean()
	require.NoError(t, err)
	require.Zero(t, again)
	release, err := s.own()
	require.NoError(t, err)
	_, err = s.Clean()
	require.ErrorIs(t, err, ErrBusy)
	release()
	s.o.Grace = time.Hour
	require.Equal(t, 201, a.do("", "POST", "/v2/tides/gauge/blobs/uploads/?digest="+string(stray), "stray").StatusCode)
	_, err = s.Clean()
	require.NoError(t, err)
	require.Equal(t, 200, a.do("", "HEAD", "/v2/tides/gauge/blobs/"+string(stray), "").StatusCode)
}

// TestNotify: those who want to know of pushes are told, signed, again where they do not listen at first; one that never does holds nobody
// up; all of it is in the history, and a stand-in that was killed goes on with what waits.
func TestNotify(t *testing.T) {
	told, deaf := make(chan Event, 10), true
	listener := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if deaf {
			deaf = false
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		require.NoError(t, notice.Verify([]byte("low water"), r.Header, body, time.Now(), time.Minute))
		var e Event
		require.NoError(t, json.Unmarshal(body, &e))
		told <- e
	}))
	defer listener.Close()
	never := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusForbidden) }))
	defer never.Close()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "notice.key"), []byte("low water\n"), 0o600))
	rules, err := ParseRules([]byte("notify: [{to: '" + listener.URL + "', key: notice.key}, '" + never.URL + "/x?token=hidden']"))
	require.NoError(t, err)
	o := Options{Dir: dir, Rules: rules, NoticeWait: time.Millisecond}
	s, err := New(o)
	require.NoError(t, err)
	require.Equal(t, 201, asking{t, s}.push("", "tides/gauge", "1.4.0", "x").StatusCode)
	list, err := s.Notices(10)
	require.NoError(t, err)
	require.Equal(t, []string{noticeWaiting, noticeWaiting}, []string{list[0].State, list[1].State})
	if s, err = New(o); err != nil { // as after a kill
		t.Fatal(err)
	}
	s.deliver(t.Context())
	select {
	case e := <-told:
		require.Equal(t, "push tides/gauge 1.4.0", strings.Join([]string{e.What, e.Repository, e.Tag}, " "))
		require.NoError(t, e.Digest.Validate())
	case <-time.After(20 * time.Second):
		t.Fatal("nobody was told")
	}
	require.Eventually(t, func() bool {
		list, err = s.Notices(10)
		require.NoError(t, err)
		return list[0].State == noticeTold && list[1].State == noticeFailed
	}, 20*time.Second, time.Millisecond)
	require.Equal(t, [3]int{2, 2, 200}, [3]int{len(list), list[0].Tries, list[0].Status})
	require.Equal(t, [2]int{1, 403}, [2]int{list[1].Tries, list[1].Status})
	require.True(t, list[0].Signed && !list[1].Signed)
	require.NotContains(t, list[1].Why, "hidden")
	_, err = ParseRules([]byte("notify: [http://tideline.example/pushed]"))
	require.ErrorContains(t, err, "on this machine alone")
	last := list[1].ID
	if s, err = New(o); err != nil {
		t.Fatal(err)
	}
	require.Equal(t, 201, asking{t, s}.push("", "tides/gauge", "1.4.1", "y").StatusCode)
	list, err = s.Notices(1)
	require.NoError(t, err)
	require.Greater(t, list[0].ID, last)
}

// TestRefusedPushes: whatever refuses a push is in the events, with the reason; what is only asked for is not, nor is what is a part of
// the protocol.
func TestRefusedPushes(t *testing.T) {
	s, err := New(Options{Auth: AuthBasic, User: "harbour", Secret: "h4rbour", Rules: rulesOf(t, "repositories: [{match: 'tides/**', fixed: ['1*']}, {match: small, quota: 10B}, {match: mine, push: [other]}]")})
	require.NoError(t, err)
	a := asking{t, s}
	const harbour = "harbour:h4rbour"
	require.Equal(t, 201, a.push(harbour, "tides/gauge", "1.4.0", "x").StatusCode)
	require.Equal(t, 404, a.do(harbour, "GET", "/v2/tides/gauge/manifests/9", "").StatusCode)
	require.Equal(t, 400, a.do(harbour, "GET", "/v2/tides/gauge/_imbricat/tags/history?tag=-", "").StatusCode)
	before, err := s.Events(100, "")
	require.NoError(t, err)
	for _, e := range before {
		require.NotEqual(t, "refused", e.What)
	}
	require.Equal(t, 403, a.push(harbour, "mine", "1", "x").StatusCode)
	require.NotEqual(t, 201, a.push(harbour, "tides/gauge", "1.4.0", "y").StatusCode)
	require.NotEqual(t, 201, a.push(harbour, "small", "1", "x").StatusCode)
	require.Equal(t, 400, a.do(harbour, "PUT", "/v2/tides/gauge/manifests/2", "{", "Content-Type", v1.MediaTypeImageIndex).StatusCode)
	all, err := s.Events(100, "")
	require.NoError(t, err)
	var why []string
	for _, e := range all {
		if e.What == "refused" {
			require.Equal(t, "harbour", e.Who)
			why = append(why, e.Repository+": "+e.Why)
		}
	}
	require.Len(t, why, 4, "%q", why)
	require.Contains(t, why[1], "tides/gauge: the tag 1.4.0 is fixed")
}

// TestRotateKey: a token says when it ends, and is refused with the reason once it has, or once the key was changed, beside a running stand-in.
func TestRotateKey(t *testing.T) {
	dir := t.TempDir()
	s, err := New(Options{Dir: dir, Auth: AuthToken})
	require.NoError(t, err)
	bearer := func(token string) (int, string) {
		r := httptest.NewRequest("GET", "/v2/", nil)
		r.Header.Set("Authorization", "Bearer "+token)
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		return w.Code, w.Body.String()
	}
	token, err := s.Issue("pipeline", []string{"tides/*"}, []string{"pull"}, time.Hour)
	require.NoError(t, err)
	code, _ := bearer(token)
	require.Equal(t, 200, code)
	ended, err := s.Issue("pipeline", []string{"tides/*"}, []string{"pull"}, -time.Hour)
	require.NoError(t, err)
	code, why := bearer(ended)
	require.Equal(t, 401, code)
	require.Contains(t, why, "the token ended at 20")
	beside, err := New(Options{Dir: dir})
	require.NoError(t, err)
	require.NoError(t, beside.RotateKey())
	code, why = bearer(token)
	require.Equal(t, 401, code)
	require.Contains(t, why, "was issued before the key was changed")
	token, err = beside.Issue("pipeline", []string{"tides/*"}, []string{"pull"}, time.Hour)
	require.NoError(t, err)
	code, _ = bearer(token)
	require.Equal(t, 200, code)
}

// TestPage: the page shows what a user may see, and nothing that was pushed becomes part of it unescaped.
func TestPage(t *testing.T) {
	s, err := New(Options{Auth: AuthBasic, User: "harbour", Secret: "h4rbour", Rules: rulesOf(t, "repositories: [{match: secret/**, pull: [mole]}]")})
	require.NoError(t, err)
	a := asking{t, s}
	const harbour = "harbour:h4rbour"
	require.Equal(t, 401, a.do("", "GET", "/", "").StatusCode)
	require.Contains(t, text(a.do(harbour, "GET", "/", "")), "Nothing was pushed yet")
	require.Equal(t, 201, a.push(harbour, "tides/gauge", "1.4.0", "x").StatusCode)
	require.Equal(t, 201, a.push(harbour, "secret/gauge", "1.4.0", "x").StatusCode)
	hostile := `{"schemaVersion":2,"mediaType":"` + v1.MediaTypeImageIndex + `","manifests":[]}`
	require.Equal(t, 201, a.do(harbour, "PUT", "/v2/tides/gauge/manifests/odd", hostile, "Content-Type", v1.MediaTypeImageIndex).StatusCode)
	front := a.do(harbour, "GET", "/", "")
	require.Contains(t, front.Header.Get("Content-Security-Policy"), "default-src 'none'")
	page := text(front)
	require.Contains(t, page, `href="/repositories/tides/gauge"`)
	require.NotContains(t, page, "secret/gauge")
	require.NotContains(t, page, "<script")
	one := text(a.do(harbour, "GET", "/repositories/tides/gauge", ""))
	require.Contains(t, one, "1.4.0")
	require.Contains(t, one, `harbour</td><td role="cell" data-is="What"><span>push`)
	require.Equal(t, 404, a.do(harbour, "GET", "/repositories/secret/gauge", "").StatusCode)
	require.NotContains(t, text(a.do(harbour, "GET", "/events", "")), "secret/gauge")
	require.Equal(t, 405, a.do(harbour, "POST", "/", "").StatusCode)
	require.Equal(t, 404, a.do(harbour, "GET", "/etc/passwd", "").StatusCode)
}

func TestParse(t *testing.T) {
	for _, wrong := range []string{"create: never", "repositories: [{match: '['}]", "repositories: [{match: a, quota: much}]", "repositories: [{match: a, fixed: ['[']}]",
		"repositories: [{match: a, retain: {younger: soon}}]", "repositories: [{match: a, retain: {newest: -1}}]", "nonsense: 1", "["} {
		_, err := ParseRules([]byte(wrong))
		require.Error(t, err, wrong)
	}
	f, err := ParseFaults("latency=5ms,bandwidth=1MB,503=0.1,429=0.2,retry-after=2s,break=0.3,break-after=4kB,wrong=0.4,expired=0.5,seed=7")
	require.NoError(t, err)
	require.Equal(t, Faults{Latency: 5 * time.Millisecond, Bandwidth: 1e6, Status: map[int]float64{503: 0.1, 429: 0.2}, RetryAfter: 2 * time.Second,
		Break: 0.3, BreakAfter: 4000, Wrong: 0.4, Expired: 0.5, Seed: 7}, f)
	for _, wrong := range []string{"latency", "break=2", "200=0.1", "tide=1", "wrong=-1", "bandwidth=x"} {
		_, err := ParseFaults(wrong)
		require.Error(t, err, wrong)
	}
}

// FuzzContentRange: no range of a chunk makes the stand-in fail, and none but the next byte is taken.
func FuzzContentRange(f *testing.F) {
	f.Add("0-2")
	f.Add("bytes 3-1/9")
	f.Add("-0-0")
	s, err := New(Options{})
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, text string) {
		if text == "" || strings.ContainsAny(text, "\r\n\x00") {
			return
		}
		a := asking{t, s}
		begun := a.do("", "POST", "/v2/a/blobs/uploads/", "")
		status := a.do("", "PATCH", begun.Header.Get("Location"), "tide", "Content-Range", text).StatusCode
		require.Contains(t, []int{202, 400, 416}, status)
		if status == 202 {
			first, _, _ := strings.Cut(strings.TrimPrefix(text, "bytes "), "-")
			require.Equal(t, "0", strings.TrimLeft(strings.TrimLeft(first, "+"), "0")+"0")
		}
	})
}

// fullDisk fails to write uploads.
type fullDisk struct{ afero.Fs }

func (f fullDisk) OpenFile(name string, flag int, mode os.FileMode) (afero.File, error) {
	file, err := f.Fs.OpenFile(name, flag, mode)
	return fullFile{file}, err
}

type fullFile struct{ afero.File }

func (f fullFile) Write([]byte) (int, error) {
	return 0, &os.PathError{Op: "write", Path: f.Name(), Err: syscall.ENOSPC}
}

// TestFullDisk: it is said as what it is, without the machine's paths, and what cannot be finished makes room.
func TestFullDisk(t *testing.T) {
	s, err := New(Options{})
	require.NoError(t, err)
	s.storage.files = fullDisk{s.storage.files}
	resp := asking{t, s}.do("", "POST", "/v2/tides/gauge/blobs/uploads/?digest="+string(digest.FromBytes([]byte("tide"))), "tide")
	require.Equal(t, http.StatusInsufficientStorage, resp.StatusCode)
	said := text(resp)
	require.Contains(t, said, "the stand-in's disk is full")
	require.NotContains(t, said, "uploads")
	left, err := s.storage.names("uploads")
	require.NoError(t, err)
	require.Empty(t, left)
}

// FuzzToken: nothing is taken for a token but what has this server's signature, for this server, for a time that is not over;
// and a token that is asked for allows nothing that was not asked for, or that its user may not do.
func FuzzToken(f *testing.F) {
	s, err := New(Options{Auth: AuthToken, Rules: rulesOf(f, someRules)})
	require.NoError(f, err)
	other, err := New(Options{Auth: AuthToken})
	require.NoError(f, err)
	for _, one := range []*Server{s, other} {
		text, err := one.Issue("harbour", []string{"open/**"}, []string{"pull"}, time.Hour)
		require.NoError(f, err)
		f.Add(text, "repository:open/gauge:pull,push")
		head, body, _ := strings.Cut(text, ".")
		f.Add(base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`))+"."+body, "repository:open/gauge:*")
		f.Add(head+".."+body, "registry:catalog:*")
	}
	f.Fuzz(func(t *testing.T, text, scope string) {
		if who, err := s.readToken(text); err == nil {
			cut := strings.LastIndexByte(text, '.')
			sign := hmac.New(sha256.New, keyOf(t, s))
			sign.Write([]byte(text[:cut]))
			signature, err := base64.RawURLEncoding.DecodeString(text[cut+1:])
			require.NoError(t, err)
			require.True(t, hmac.Equal(sign.Sum(nil), signature))
			require.Equal(t, "harbour", who.user)
		}
		for _, who := range []identity{{}, {user: "mole"}, {user: "harbour"}, {user: "harbour", token: true, grants: []grant{}}} {
			g, allowed := s.allowed(who, scope)
			if !allowed {
				continue
			}
			require.True(t, strings.HasPrefix(scope, "repository:"+g.Name+":"))
			require.Regexp(t, nameForm, g.Name)
			for _, what := range g.Actions {
				require.True(t, strings.Contains(scope, what) || strings.Contains(scope, "*"))
				require.False(t, who.token, "a token that allows nothing gets no other")
				require.True(t, who.user == "harbour" || what == "pull" || strings.HasPrefix(g.Name, "open/") == false && who.user != "", "%s may not %s in %s", who.user, what, g.Name)
			}
			require.False(t, strings.HasPrefix(g.Name, "secret/") && (who.user != "harbour" || slices.Contains(g.Actions, "delete")))
		}
	})
}

// FuzzRules: rules that are read can be asked of any repository, and the first that matches counts.
func FuzzRules(f *testing.F) {
	f.Add(someRules, "open/gauge")
	f.Add("repositories: [{match: '**', fixed: [\"1*\"], retain: {keep: [newest], newest: 1, younger: 3d}}]", "a")
	f.Fuzz(func(t *testing.T, text, name string) {
		r, err := ParseRules([]byte(text))
		if err != nil {
			return
		}
		got := r.of(name)
		for _, one := range r.Repositories {
			if matched, err := doublestar.Match(one.Match, name); err == nil && matched {
				require.Equal(t, one.Match, got.Match)
				return
			}
		}
		require.Equal(t, RepositoryRule{}, got)
	})
}

func keyOf(t *testing.T, s *Server) []byte {
	key, err := s.key()
	require.NoError(t, err)
	return key
}
