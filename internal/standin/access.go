package standin

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/dustin/go-humanize"
	"github.com/spf13/afero"
	"go.yaml.in/yaml/v3"
	"golang.org/x/crypto/bcrypt"

	"imbricat/internal/ground/digest"
	"imbricat/internal/spec/retention"
)

// action is what may be allowed to somebody in a repository.
type action string

const (
	pull   action = "pull"
	push   action = "push"
	remove action = "delete"
)

// Words that stand for many in lists of users.
const (
	anybody  = "anybody"  // with a login or without
	everyone = "everyone" // who has a login
)

// Rules are the file rules.yaml of a stand-in's folder.
type Rules struct {
	Create       string           `yaml:"create"` // on-push (default) or by-hand
	Notify       []Notify         `yaml:"notify"` // addresses that are told of pushes
	Repositories []RepositoryRule `yaml:"repositories"`
}

// RepositoryRule holds for the repositories that its pattern matches; the first one that does counts.
type RepositoryRule struct {
	Match  string   `yaml:"match"` // such as tides/*, or ** for all
	Pull   []string `yaml:"pull"`  // users, anybody or everyone; none: everyone
	Push   []string `yaml:"push"`
	Delete []string `yaml:"delete"`
	Closed bool     `yaml:"closed"` // nothing is pushed or deleted
	Fixed  []string `yaml:"fixed"`  // patterns of tags that do not move
	Quota  string   `yaml:"quota"`  // such as 2GB
	Retain retain   `yaml:"retain"` // which tags stay; without it all
	quota  uint64
}

// retain is a rule of retention as people write it, and as it is checked.
type retain struct {
	retention.Said `yaml:",inline"`
	rule           retention.Rule
	given          bool
}

func (r *retain) check() (err error) {
	if r.given = r.Given(); r.given {
		r.rule, err = r.Rule()
	}
	return err
}

// ParseRules reads and checks rules.
func ParseRules(text []byte) (*Rules, error) {
	r := &Rules{}
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	decoder.KnownFields(true)
	if err := decoder.Decode(r); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if r.Create != "" && r.Create != "on-push" && r.Create != "by-hand" {
		return nil, fmt.Errorf("create: cannot be %q: on-push or by-hand", r.Create)
	}
	for i := range r.Repositories {
		one := &r.Repositories[i]
		if !doublestar.ValidatePattern(one.Match) || one.Match == "" {
			return nil, fmt.Errorf("repositories: match: %q is not a pattern", one.Match)
		}
		for _, pattern := range one.Fixed {
			if _, err := path.Match(pattern, ""); err != nil {
				return nil, fmt.Errorf("%s: fixed: %q is not a pattern", one.Match, pattern)
			}
		}
		if one.Quota != "" {
			var err error
			if one.quota, err = humanize.ParseBytes(one.Quota); err != nil {
				return nil, fmt.Errorf("%s: quota: %q is not a size", one.Match, one.Quota)
			}
		}
		if err := one.Retain.check(); err != nil {
			return nil, fmt.Errorf("%s: retain: %w", one.Match, err)
		}
	}
	return r, nil
}

func (r *Rules) of(repository string) RepositoryRule {
	for _, one := range r.Repositories {
		if matched, err := doublestar.Match(one.Match, repository); err == nil && matched {
			return one
		}
	}
	return RepositoryRule{}
}

func matchesAny(patterns []string, tag string) bool { return retention.Match(patterns, tag) }

// cached is a file that is read again when it changed. What cannot be read leaves the last good content in force.
type cached[T any] struct {
	name  string
	parse func([]byte) (T, error)
	mutex sync.Mutex
	seen  fs.FileInfo
	// pinned content is never read again.
	pinned bool
	value  T
}

// get returns what the file holds now; without one the zero value.
func (c *cached[T]) get(files afero.Fs) (T, error) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.pinned {
		return c.value, nil
	}
	info, err := files.Stat(c.name)
	if errors.Is(err, fs.ErrNotExist) {
		var none T
		c.seen, c.value = nil, none
		return none, nil
	}
	if err != nil {
		return c.value, err
	}
	if c.seen != nil && info.ModTime().Equal(c.seen.ModTime()) && info.Size() == c.seen.Size() {
		return c.value, nil
	}
	text, err := afero.ReadFile(files, c.name)
	if err != nil {
		return c.value, err
	}
	value, err := c.parse(text)
	if err != nil {
		return c.value, fmt.Errorf("%s: %w", c.name, err)
	}
	c.seen, c.value = info, value
	return value, nil
}

const (
	rulesFile = "rules.yaml"
	usersFile = "users.json"
)

func parseUsers(text []byte) (map[string]string, error) {
	var users map[string]string
	return users, json.Unmarshal(text, &users)
}

// AddUser keeps a user with the hash of a secret, and tells whether there was one of that name.
func (s *Server) AddUser(name, secret string) error {
	if name == "" || len(name) > 128 || strings.ContainsFunc(name, func(r rune) bool { return r <= ' ' || r == ':' || r == 0x7f }) {
		return fmt.Errorf("%.200q is not a name of a user: it has a blank or a colon, is empty or too long", name)
	}
	hash, err := bcrypt.GenerateFromPassword([]byte(secret), bcrypt.DefaultCost)
	if err != nil {
		return fmt.Errorf("keeping the user: %w", err)
	}
	defer s.storage.lock(usersFile)()
	users, err := s.users.get(s.storage.files)
	if err != nil {
		return err
	}
	all := map[string]string{name: string(hash)}
	for one, hash := range users {
		if one != name {
			all[one] = hash
		}
	}
	text, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return s.storage.write(usersFile, text)
}

// identity is who asks.
type identity struct {
	user   string  // "": nobody in particular
	grants []grant // of a token; nil: all that the user may
	token  bool
}

// grant is what a token allows.
type grant struct {
	Type    string   `json:"type"`
	Name    string   `json:"name"`
	Actions []string `json:"actions"`
}

// checkUser reports whether a name and a secret belong together. A secret may also be a token that was issued by hand.
func (s *Server) checkUser(name, secret string) (identity, bool) {
	if who, err := s.readToken(secret); err == nil && who.user == name {
		return who, true
	}
	hash, known := s.o.hash, name == s.o.User && name != ""
	if !known {
		users, _ := s.users.get(s.storage.files)
		text, is := users[name]
		hash, known = []byte(text), is
	}
	if !known {
		return identity{}, false
	}
	// Comparing is slow by purpose; a pair that was right once is remembered by its digest.
	pair := sha256.Sum256([]byte(name + "\x00" + secret + "\x00" + string(hash)))
	if _, was := s.right.Load(pair); was {
		return identity{user: name}, true
	}
	if bcrypt.CompareHashAndPassword(hash, []byte(secret)) != nil {
		return identity{}, false
	}
	s.right.Store(pair, true)
	return identity{user: name}, true
}

// Note is what the stand-in keeps of a repository that was made by hand; what it says counts before the rules.
type Note struct {
	Created time.Time `json:"created"`
	Closed  *bool     `json:"closed,omitempty"`
	Pull    []string  `json:"pull,omitempty"`
	Push    []string  `json:"push,omitempty"`
}

func (s *storage) note(repository string) (n Note, made bool) {
	text, err := s.read(s.link(repository, "_repository.json"))
	return n, err == nil && json.Unmarshal(text, &n) == nil
}

func (s *storage) putNote(repository string, n Note) error {
	text, err := json.Marshal(n)
	if err != nil {
		return err
	}
	return s.write(s.link(repository, "_repository.json"), text)
}

// rightsOf returns the rule for a repository with what was said of it by hand.
func (s *Server) rightsOf(repository string) RepositoryRule {
	rules := s.rulesNow()
	rule := rules.of(repository)
	if n, made := s.storage.note(repository); made {
		if n.Closed != nil {
			rule.Closed = *n.Closed
		}
		if n.Pull != nil {
			rule.Pull = n.Pull
		}
		if n.Push != nil {
			rule.Push = n.Push
			if rule.Delete == nil {
				rule.Delete = n.Push
			}
		}
	}
	return rule
}

func (s *Server) rulesNow() *Rules {
	rules, err := s.rules.get(s.storage.files)
	if err != nil {
		s.complain(err)
	}
	if rules == nil {
		rules = &Rules{}
	}
	return rules
}

// permit reports whether somebody may act in a repository; nil is yes.
func (s *Server) permit(who identity, repository string, what action) *problem {
	if p := s.entitled(who, repository, what); p != nil {
		return p
	}
	if what == pull {
		return nil
	}
	if s.rightsOf(repository).Closed {
		return refuse(http.StatusForbidden, "DENIED", "the repository "+repository+" is read-only")
	}
	if what == push && s.rulesNow().Create == "by-hand" && !s.storage.has(repository) {
		return refuse(http.StatusNotFound, "NAME_UNKNOWN", "there is no repository "+repository+", and a push does not make one here: `imbricat standin repository create "+repository+"`")
	}
	return nil
}

// entitled looks at the user's rights and the token's alone.
func (s *Server) entitled(who identity, repository string, what action) *problem {
	if s.o.Auth == AuthNone {
		return nil
	}
	rule := s.rightsOf(repository)
	list := map[action][]string{pull: rule.Pull, push: rule.Push, remove: rule.Delete}[what]
	if list == nil {
		list = []string{everyone}
	}
	allowed := slices.Contains(list, anybody) || who.user != "" && (slices.Contains(list, everyone) || slices.Contains(list, who.user))
	if allowed && who.token && who.grants != nil {
		allowed = slices.ContainsFunc(who.grants, func(g grant) bool {
			matched, err := doublestar.Match(g.Name, repository)
			return err == nil && matched && (slices.Contains(g.Actions, string(what)) || slices.Contains(g.Actions, "*"))
		})
	}
	switch {
	case allowed:
		return nil
	case who.user == "" && !who.token:
		return refuse(http.StatusUnauthorized, "UNAUTHORIZED", "a login is needed")
	case who.token:
		return refuse(http.StatusUnauthorized, "DENIED", "the token does not allow to "+string(what)+" in "+repository)
	}
	return refuse(http.StatusForbidden, "DENIED", who.user+" may not "+string(what)+" in "+repository)
}

// checkQuota refuses what would make a repository larger than it may be. What it has already takes no more.
func (x *exchange) checkQuota(kind string, d digest.Digest, more int64) error {
	quota := x.server.rightsOf(x.repository).quota
	if quota == 0 || x.storage.exists(x.repository, kind, d) {
		return nil
	}
	held, err := x.storage.held(x.repository)
	if err != nil {
		return err
	}
	if uint64(held+more) > quota {
		return refuse(http.StatusForbidden, "DENIED", fmt.Sprintf("the repository %s would hold more than %s", x.repository, humanize.Bytes(quota)))
	}
	return nil
}

// words of a list of users, as people write it.
func splitWords(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
}
