package standin

import (
	"bytes"
	_ "embed"
	"html/template"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"

	"imbricat/internal/ground/digest"
)

//go:embed page.html
var pageText string

var pageTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page").Funcs(template.FuncMap{
		"bytes": func(n int64) string { return humanize.Bytes(uint64(n)) },
		"short": digest.Short,
		"when":  func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05") },
		"join":  func(list []string) string { return strings.Join(list, ", ") },
	}).Parse(pageText))
})

// pageData is what the page shows: all repositories, or one with its tags, or events.
type pageData struct {
	Host         string
	User         string
	Where        string // which of the three
	Repositories []Repository
	Repository   Repository
	Tags         []Tag
	Events       []Event
}

// pageEvents is how many events the page lists.
const pageEvents = 100

// page answers a browser. It changes nothing and works without script.
func (s *Server) page(w http.ResponseWriter, r *http.Request) error {
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		return refuse(http.StatusMethodNotAllowed, "UNSUPPORTED", r.Method+" is not supported here")
	}
	var who identity
	if user, secret, given := r.BasicAuth(); given {
		who, _ = s.checkUser(user, secret)
	}
	if s.o.Auth != AuthNone && who.user == "" {
		w.Header().Set("WWW-Authenticate", `Basic realm="stand-in", charset="UTF-8"`)
		return refuse(http.StatusUnauthorized, "UNAUTHORIZED", "a login is needed")
	}
	data := pageData{Host: r.Host, User: who.user, Where: "repositories"}
	visible := func(name string) bool { return s.entitled(who, name, pull) == nil }
	var err error
	if data.Repositories, err = s.Repositories(visible); err != nil {
		return err
	}
	switch name, one := strings.CutPrefix(r.URL.Path, "/repositories/"); {
	case one:
		i := slices.IndexFunc(data.Repositories, func(r Repository) bool { return r.Name == name })
		if i < 0 {
			return refuse(http.StatusNotFound, "NAME_UNKNOWN", "there is no repository "+name)
		}
		data.Where, data.Repository = "repository", data.Repositories[i]
		if data.Tags, err = s.Tags(name); err == nil {
			data.Events, err = s.Events(pageEvents, name)
		}
		slices.SortStableFunc(data.Tags, func(a, b Tag) int { return b.Pushed.Compare(a.Pushed) })
	case r.URL.Path == "/events":
		data.Where = "events"
		data.Events, err = s.journal.list(pageEvents, func(e Event) bool { return e.Repository == "" || visible(e.Repository) })
	case r.URL.Path != "/":
		return refuse(http.StatusNotFound, "UNSUPPORTED", "there is nothing at "+r.URL.Path)
	}
	if err != nil {
		return err
	}
	slices.Reverse(data.Events)
	var out bytes.Buffer
	if err := pageTemplate().Execute(&out, data); err != nil {
		return err
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	_, err = w.Write(out.Bytes())
	return err
}
