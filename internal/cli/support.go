package cli

import (
	"bytes"
	"context"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/flow/settings"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/files"
	"imbricat/internal/ground/notice"
	"imbricat/internal/ground/redact"
	"imbricat/internal/output/report"
)

// pastTold is how many builds a support file tells of.
const pastTold = 10

// support writes a file for whoever helps: what this machine can do, what is set, what the last builds came to. It holds no secret: all that
// is known here is covered, whatever text it stands in, and of what may hold one only the name is told.
func (s *session) support(ctx context.Context, name string, d *report.Doctor) error {
	hidden, err := s.everySecret(ctx)
	if err != nil {
		return err
	}
	out := &report.Support{Made: time.Now().UTC().Truncate(time.Second), Program: "imbricat " + version(), Machine: s.machine(ctx), Doctor: d,
		Environment: toldEnvironment(), Settings: settingsTold(), Builds: []report.PastBuild{}}
	if r, err := s.project().Recipe(); r != nil {
		out.Recipe = &report.SupportRecipe{Files: r.Files(), Digest: digest.FromBytes([]byte(r.File.Text()))}
		if err != nil {
			out.Recipe.Mistakes = err.Error()
		}
	}
	if st, err := store.Open(s.storeDir()); err == nil {
		defer st.Close()
		if usage, err := st.Size(ctx); err == nil {
			out.Store = &usage
		}
		if book, err := s.openLogbook(st); err == nil {
			builds, err := book.List("", pastTold)
			if err != nil {
				return err
			}
			for _, b := range builds {
				one := pastBuild(b)
				one.Command = withoutValues.ReplaceAllString(one.Command, "$1=…")
				for name := range one.Facts {
					one.Facts[name] = "…"
				}
				out.Builds = append(out.Builds, one)
			}
		}
	}
	var text bytes.Buffer
	if err := report.JSON(&text, out); err != nil {
		return err
	}
	return files.Replace(name, hidden.Bytes(text.Bytes()), 0o600)
}

// withoutValues is what commands were given that may be nobody's business.
var withoutValues = regexp.MustCompile(`(--[a-z-]+[ =][A-Za-z0-9_#./-]+)=\S+`)

// everySecret knows every secret that the program can find without asking anybody.
func (s *session) everySecret(ctx context.Context) (*redact.Redactor, error) {
	hidden := &redact.Redactor{}
	for _, pair := range os.Environ() {
		if name, value, _ := strings.Cut(pair, "="); secretName.MatchString(name) {
			hidden.Add([]byte(value))
		}
	}
	file := settings.Credentials()
	places, err := file.Hosts()
	if err != nil {
		return nil, flow.Usagef("the logins could not be read, so what is secret is not known: %w", err)
	}
	for _, place := range places {
		host, prefix, _ := strings.Cut(strings.TrimPrefix(place, "https://"), "/")
		for _, at := range [][2]string{{host, prefix}, {place, ""}} {
			if login, err := file.Find(ctx, at[0], at[1]); err == nil {
				hidden.Add([]byte(login.Secret.Reveal()))
				hidden.Add([]byte(login.Token.Reveal()))
			}
		}
	}
	if r, _ := s.project().Recipe(); r != nil {
		for _, one := range r.Secrets {
			hidden.Add([]byte(os.Getenv(one.Env)))
		}
	}
	return hidden, nil
}

// secretName is what variables are called that hold secrets.
var secretName = regexp.MustCompile(`(?i)secret|token|passw|passphrase|credential|api_?key|signing_key|private`)

// told are variables that say something of a build and hold no secret by themselves.
var told = regexp.MustCompile(`^(IMBRICAT_|XDG_|LANG$|LC_|TZ$|CI$|TMPDIR$|SOURCE_DATE_EPOCH$|GOMAXPROCS$|GOMEMLIMIT$|NO_COLOR$|TERM$)|(?i)_?proxy$`)

// toldEnvironment tells variables that matter. Of those that may hold a secret it is told that they are set.
func toldEnvironment() map[string]string {
	all := map[string]string{}
	for _, pair := range os.Environ() {
		name, value, _ := strings.Cut(pair, "=")
		switch {
		case !told.MatchString(name):
		case secretName.MatchString(name):
			all[name] = "is set"
		case strings.HasSuffix(strings.ToLower(name), "_proxy") && !strings.EqualFold(name, "no_proxy"):
			if u, err := url.Parse(value); err == nil && u.Host != "" {
				u.User, u.RawQuery = nil, ""
				all[name] = u.String()
			} else {
				all[name] = "is set"
			}
		default:
			all[name] = value
		}
	}
	return all
}

// settingsTold is what is set, without the arguments of programs that tell secrets, and without what addresses hide.
func settingsTold() any {
	text, err := os.ReadFile(settings.File())
	if err != nil {
		return nil
	}
	var all map[string]any
	if yaml.Unmarshal(text, &all) != nil {
		return "they are no YAML"
	}
	return withoutArguments("", all)
}

func withoutArguments(key string, value any) any {
	switch v := value.(type) {
	case map[string]any:
		for name := range v {
			v[name] = withoutArguments(name, v[name])
		}
	case []any:
		if key == "helper" || key == "token" {
			if len(v) == 0 {
				return v
			}
			if program, is := v[0].(string); is {
				return filepath.Base(program) + " …"
			}
			return "…"
		}
		for i := range v {
			v[i] = withoutArguments(key, v[i])
		}
	case string:
		if slices.Contains([]string{"to", "share", "issuer"}, key) && strings.Contains(v, "://") {
			return notice.Plain(v)
		}
	}
	return value
}
