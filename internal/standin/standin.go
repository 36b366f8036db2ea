// Package standin is a small registry that speaks the OCI distribution specification, for demos, tests and offline
// work. It keeps everything in one folder and survives being killed.
//
// It is not made for the open internet, and it never imports the registry client, so that one misreading of the
// specification cannot pass on both sides.
package standin

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"net"
	"net/http"
	"regexp"
	"strings"
	"time"
)

// Options of a stand-in.
type Options struct {
	Dir    string // where everything is kept; made where it does not exist
	User   string // with Secret: who may pull and push; empty: everybody
	Secret string
	Log    func(method, path string, status int, took time.Duration) // nil: none
}

// Server is a stand-in registry.
type Server struct {
	o       Options
	storage *storage
}

// New opens the folder.
func New(o Options) (*Server, error) {
	s, err := openStorage(o.Dir)
	if err != nil {
		return nil, err
	}
	return &Server{o: o, storage: s}, nil
}

// Serve answers requests until the context ends, then lets those under way finish for a while.
func (s *Server) Serve(ctx context.Context, listener net.Listener) error {
	server := &http.Server{Handler: s, ReadHeaderTimeout: 20 * time.Second}
	stopped := make(chan error, 1)
	go func() {
		<-ctx.Done()
		grace, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		stopped <- server.Shutdown(grace)
	}()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return fmt.Errorf("the stand-in: %w", err)
	}
	if err := <-stopped; err != nil {
		return server.Close()
	}
	return nil
}

// ServeHTTP answers one request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	began := time.Now()
	recorder := &statusRecorder{ResponseWriter: w, status: http.StatusOK}
	recorder.Header().Set(versionHeader, "registry/2.0")
	if err := s.route(recorder, r); err != nil {
		var p *problem
		if !errors.As(err, &p) {
			p = refuse(http.StatusInternalServerError, "UNKNOWN", err.Error())
		}
		writeProblem(recorder, p)
	}
	if s.o.Log != nil {
		s.o.Log(r.Method, r.URL.Path, recorder.status, time.Since(began))
	}
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
	tagForm  = regexp.MustCompile(`^[a-zA-Z0-9_][a-zA-Z0-9._-]{0,127}$`)
	routes   = regexp.MustCompile(`^/v2/(.+)/(blobs/uploads/?|blobs/uploads/([^/]+)|blobs/([^/]+)|manifests/([^/]+)|tags/list)$`)
)

func (s *Server) route(w http.ResponseWriter, r *http.Request) error {
	if err := s.authorize(w, r); err != nil {
		return err
	}
	if r.URL.Path == "/v2/" || r.URL.Path == "/v2" {
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
	x := &exchange{w: w, r: r, storage: s.storage, repository: match[1]}
	switch {
	case match[2] == "tags/list":
		return x.tags()
	case match[5] != "":
		return x.manifest(match[5])
	case match[4] != "" && match[4] != "uploads":
		return x.blob(match[4])
	case match[3] != "":
		return x.upload(match[3])
	}
	return x.beginUpload()
}

func (s *Server) authorize(w http.ResponseWriter, r *http.Request) error {
	if s.o.User == "" {
		return nil
	}
	user, secret, given := r.BasicAuth()
	right := subtle.ConstantTimeCompare([]byte(user), []byte(s.o.User)) & subtle.ConstantTimeCompare([]byte(secret), []byte(s.o.Secret))
	if given && right == 1 {
		return nil
	}
	w.Header().Set("WWW-Authenticate", `Basic realm="stand-in", charset="UTF-8"`)
	if !given {
		return refuse(http.StatusUnauthorized, "UNAUTHORIZED", "a login is needed")
	}
	return refuse(http.StatusUnauthorized, "UNAUTHORIZED", "the user's name or the secret is wrong")
}

// exchange is one request to a repository.
type exchange struct {
	w          http.ResponseWriter
	r          *http.Request
	storage    *storage
	repository string
}

func (x *exchange) unsupported() error {
	return refuse(http.StatusMethodNotAllowed, "UNSUPPORTED", strings.ToUpper(x.r.Method)+" is not supported here")
}
