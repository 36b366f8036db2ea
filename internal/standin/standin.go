// Package standin is a small registry that speaks the OCI distribution specification, for demos, tests and offline
// work. It keeps everything in one folder and survives being killed, or in memory.
//
// It knows users with rights by repository, quotas, tags that do not move, retention, events, and faults on demand. It is
// not made for the open internet, and it never imports the registry client, so that one misreading of the specification
// cannot pass on both sides.
package standin

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/crypto/bcrypt"
)

// Auth is how users show who they are.
type Auth string

// The kinds of authentication.
const (
	AuthNone  Auth = "none"
	AuthBasic Auth = "basic"
	AuthToken Auth = "token" // a token issued for every scope, by the stand-in itself
)

// Options of a stand-in. Zero values are useful.
type Options struct {
	Dir       string        // where everything is kept, made where it does not exist; empty: in memory
	Auth      Auth          // empty: basic with a User, else none
	User      string        // with Secret: a user beside those of the folder
	Secret    string        //
	TokenLife time.Duration // of tokens that are asked for; 0: five minutes
	Rules     *Rules        // instead of the folder's rules.yaml
	Notify    []Notify      // addresses that are told of pushes, beside those of the rules
	// NoticeWait is how long it waits before telling an address again; 0: half a second. It grows from there.
	NoticeWait time.Duration
	Grace      time.Duration // how long content that nothing lists is spared; 0: an hour
	Faults     Faults        // that it makes on purpose
	Log        func(method, path string, status int, took time.Duration)
	Complain   func(error) // of what went wrong behind the scenes; nil: nobody is told

	hash []byte // of Secret
}

// Server is a stand-in registry.
type Server struct {
	o       Options
	storage *storage
	journal *journal
	keys    cached[[]byte]
	rules   cached[*Rules]
	users   cached[map[string]string]
	right   sync.Map // digests of names with secrets that were right
	post    *post
	faults  atomic.Pointer[faults]
}

// New opens the folder. Nothing is served yet, and nothing else is to be running on it for what changes content.
func New(o Options) (*Server, error) {
	if o.Auth == "" {
		o.Auth = AuthNone
		if o.User != "" {
			o.Auth = AuthBasic
		}
	}
	o.TokenLife, o.Grace = orElse(o.TokenLife, 5*time.Minute), orElse(o.Grace, time.Hour)
	if o.User != "" {
		var err error
		if o.hash, err = bcrypt.GenerateFromPassword([]byte(o.Secret), bcrypt.MinCost); err != nil {
			return nil, fmt.Errorf("the secret of %s: %w", o.User, err)
		}
	}
	st, err := openStorage(o.Dir)
	if err != nil {
		return nil, err
	}
	s := &Server{o: o, storage: st, journal: &journal{files: st.files}}
	s.post = &post{files: st.files, dir: o.Dir, tries: 8, wait: o.NoticeWait, boxes: map[string]chan *Notice{}}
	if err := s.post.load(); err != nil {
		return nil, err
	}
	s.SetFaults(o.Faults)
	s.rules.name, s.rules.parse = rulesFile, ParseRules
	s.users.name, s.users.parse = usersFile, parseUsers
	if o.Rules != nil {
		s.rules.value, s.rules.pinned = o.Rules, true
	}
	s.keys.name, s.keys.parse = keyFile, parseKey
	if err := st.makeKey(); err != nil {
		return nil, err
	}
	if _, err := s.keys.get(st.files); err != nil {
		return nil, err
	}
	if _, err := s.rules.get(st.files); err != nil {
		return nil, err
	}
	if _, err := s.users.get(st.files); err != nil {
		return nil, err
	}
	return s, nil
}

// SetFaults changes what the stand-in does wrong on purpose, from the next request on.
func (s *Server) SetFaults(f Faults) { s.faults.Store(newFaults(f)) }

func orElse(d, other time.Duration) time.Duration {
	if d == 0 {
		return other
	}
	return d
}

func (s *Server) complain(err error) {
	if s.o.Complain != nil {
		s.o.Complain(err)
	}
}

// ErrBusy is that another stand-in works on the folder.
var ErrBusy = errors.New("a stand-in is running on this folder")

// own makes sure that this process alone collects rubbish in the folder, until the given function is called.
func (s *Server) own() (release func(), err error) {
	if s.o.Dir == "" {
		return func() {}, nil
	}
	lock := flock.New(filepath.Join(s.o.Dir, "lock"))
	held, err := lock.TryLock()
	if err != nil {
		return nil, fmt.Errorf("the stand-in's folder: %w", err)
	}
	if !held {
		return nil, ErrBusy
	}
	return func() { _ = lock.Unlock() }, nil
}

// cleanEvery is how often a running stand-in cleans up.
const cleanEvery = 10 * time.Minute

// Serve answers requests until the context ends, then lets those under way finish for a while.
func (s *Server) Serve(ctx context.Context, listener net.Listener) error {
	release, err := s.own()
	if err != nil {
		listener.Close()
		return err
	}
	defer release()
	server := &http.Server{Handler: s, ReadHeaderTimeout: 20 * time.Second}
	stopped := make(chan error, 1)
	go func() {
		<-ctx.Done()
		grace, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		stopped <- server.Shutdown(grace)
	}()
	s.deliver(ctx)
	go s.keepClean(ctx)
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return fmt.Errorf("the stand-in: %w", err)
	}
	if err := <-stopped; err != nil {
		return server.Close()
	}
	return nil
}

func (s *Server) keepClean(ctx context.Context) {
	for tick := time.NewTicker(cleanEvery); ; {
		if _, err := s.clean(); err != nil {
			s.complain(err)
		}
		select {
		case <-ctx.Done():
			tick.Stop()
			return
		case <-tick.C:
		}
	}
}

// ServeHTTP answers one request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	began, method, path := time.Now(), r.Method, r.URL.Path
	recorder := &statusRecorder{ResponseWriter: w, status: http.StatusOK}
	if s.o.Log != nil {
		defer func() { s.o.Log(method, path, recorder.status, time.Since(began)) }()
	}
	spoiled, r, finish := s.faults.Load().spoil(w, r)
	if recorder.ResponseWriter = spoiled; r == nil {
		return // a fault has answered
	}
	if isProtocol(path) {
		recorder.Header().Set(versionHeader, "registry/2.0")
	}
	if err := s.route(recorder, r); err != nil {
		var p *problem
		switch {
		case errors.As(err, &p):
		case errors.Is(err, syscall.ENOSPC):
			p = refuse(http.StatusInsufficientStorage, "DENIED", "the stand-in's disk is full")
			s.complain(err)
		default:
			p = refuse(http.StatusInternalServerError, "UNKNOWN", "the stand-in failed; its own log tells how")
			s.complain(err)
		}
		writeProblem(recorder, p)
	}
	finish()
}

type statusRecorder struct {
	http.ResponseWriter
	status int
}

func (r *statusRecorder) WriteHeader(status int) {
	r.status = status
	r.ResponseWriter.WriteHeader(status)
}

var (
	nameForm = regexp.MustCompile(`^[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*(/[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*)*$`)
	tagForm  = regexp.MustCompile(`^[a-zA-Z0-9_][a-zA-Z0-9._-]*$`)
	routes   = regexp.MustCompile(`^/v2/(.+)/(blobs/uploads/?|blobs/uploads/([^/]+)|blobs/([^/]+)|manifests/([^/]+)|referrers/([^/]+)|tags/list|_imbricat/tags/history)$`)
)

func isTag(text string) bool { return len(text) <= 128 && tagForm.MatchString(text) }

// isProtocol reports whether a path is one of the distribution protocol's.
func isProtocol(path string) bool { return path == "/v2" || strings.HasPrefix(path, "/v2/") }

func (s *Server) route(w http.ResponseWriter, r *http.Request) error {
	switch {
	case r.URL.Path == "/token":
		return s.serveToken(w, r)
	case !isProtocol(r.URL.Path):
		return s.page(w, r)
	}
	who, wrong := s.authenticate(r)
	if wrong != nil {
		s.challenge(w, r, "")
		return wrong
	}
	if r.URL.Path == "/v2/" || r.URL.Path == "/v2" {
		if s.o.Auth != AuthNone && who.user == "" && !who.token {
			s.challenge(w, r, "")
			return refuse(http.StatusUnauthorized, "UNAUTHORIZED", "a login is needed")
		}
		w.Header().Set("Content-Type", "application/json")
		_, err := w.Write([]byte("{}"))
		return err
	}
	match := routes.FindStringSubmatch(r.URL.Path)
	if match == nil {
		return refuse(http.StatusNotFound, "UNSUPPORTED", "there is nothing at "+r.URL.Path)
	}
	if !nameForm.MatchString(match[1]) || len(match[1]) > 255 {
		return refuse(http.StatusBadRequest, "NAME_INVALID", "the repository's name is invalid")
	}
	x := &exchange{w: w, r: r, server: s, storage: s.storage, repository: match[1], who: who}
	return x.noteRefusal(x.serve(match))
}

// noteRefusal has what was refused that would have changed something told in the events, whatever the reason.
func (x *exchange) noteRefusal(err error) error {
	var p *problem
	if x.noted || !errors.As(err, &p) || x.r.Method == http.MethodGet || x.r.Method == http.MethodHead {
		return err
	}
	switch p.status {
	case http.StatusForbidden, http.StatusConflict, http.StatusBadRequest, http.StatusRequestEntityTooLarge, http.StatusInsufficientStorage:
		x.note(Event{What: "refused", Why: p.message})
	}
	return err
}

// serve answers a request by its path.
func (x *exchange) serve(match []string) error {
	switch {
	case match[2] == "tags/list":
		return x.listTags()
	case match[2] == "_imbricat/tags/history":
		return x.tagHistory()
	case match[6] != "":
		return x.referrers(match[6])
	case match[5] != "":
		return x.manifest(match[5])
	case match[4] != "" && match[4] != "uploads":
		return x.blob(match[4])
	case match[3] != "":
		return x.upload(match[3])
	}
	return x.beginUpload()
}

// exchange is one request to a repository.
type exchange struct {
	w          http.ResponseWriter
	r          *http.Request
	server     *Server
	storage    *storage
	repository string
	who        identity
	noted      bool // a refusal is in the events
}

// may reports whether the caller may act in the repository, and says how to come in where that helps.
func (x *exchange) may(what action) error {
	p := x.server.permit(x.who, x.repository, what)
	if p == nil {
		return nil
	}
	if p.status == http.StatusUnauthorized {
		actions := string(pull)
		if what != pull {
			actions += "," + string(what)
		}
		x.server.challenge(x.w, x.r, "repository:"+x.repository+":"+actions)
	} else {
		x.note(Event{What: "refused", Why: p.message})
		x.noted = true
	}
	return p
}

func (x *exchange) unsupported() error {
	return refuse(http.StatusMethodNotAllowed, "UNSUPPORTED", strings.ToUpper(x.r.Method)+" is not supported here")
}
