// Package redact finds secrets in texts and covers them: a secret itself, each of its lines, the values in a file of
// settings, and the usual encodings of all of these.
//
// It keeps nothing and prints nothing. What it cannot know is how else a program may write a secret: a covered text is no
// proof that there is none in it.
package redact

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// Dots stand where a secret was.
const Dots = "••••••"

const (
	// shortest is the length from which on a secret, or a line of one, can be told from chance, in bytes.
	shortest = 4
	// shortestValue is that of a value in a file, among which there are plain words.
	shortestValue = 6
)

var (
	// values are what stands behind = or : in files of settings, with or without quotes.
	values = regexp.MustCompile(`^[ \t]*(?:"((?:[^"\\]|\\.)*)"|'([^']*)'|([^\s"',;{}\[\]]+))`)
	// passwords stand in addresses.
	passwords = regexp.MustCompile(`://[^/\s:@]*:([^@\s/]+)@`)
	plain     = regexp.MustCompile(`^(?:https?://[^@]*|//[^@]*|true|false|null|none|[0-9.]{1,8}|[a-z]{1,12})$`)
)

// forms returns the texts by which a secret can be told, the longest first.
func forms(secret []byte) [][]byte {
	seen := map[string]bool{}
	var all [][]byte
	add := func(text []byte) {
		if text = bytes.TrimSpace(text); len(text) < shortest || seen[string(text)] {
			return
		}
		seen[string(text)] = true
		all = append(all, text)
	}
	encoded := func(text []byte) {
		text = bytes.TrimSpace(text)
		add(text)
		if len(text) < shortestValue {
			return
		}
		for _, e := range []*base64.Encoding{base64.StdEncoding, base64.RawStdEncoding, base64.URLEncoding, base64.RawURLEncoding} {
			add([]byte(e.EncodeToString(text)))
		}
		add([]byte(url.QueryEscape(string(text))))
		add([]byte(url.PathEscape(string(text))))
	}
	encoded(secret)
	if raw := bytes.TrimSpace(secret); len(raw) < len(secret) {
		add([]byte(base64.StdEncoding.EncodeToString(secret))) // with the end of its line
	}
	for line := range bytes.Lines(secret) {
		encoded(line)
	}
	found := passwords.FindAllSubmatch(secret, -1)
	for i, c := range secret {
		if c == '=' || c == ':' { // a value may hold others: ://host/:_authToken=…
			found = append(found, values.FindSubmatch(secret[i+1:]))
		}
	}
	for _, groups := range found {
		for _, value := range groups[min(1, len(groups)):] {
			if len(value) >= shortestValue && !plain.Match(value) {
				encoded(value)
			}
		}
	}
	slices.SortStableFunc(all, func(a, b []byte) int { return len(b) - len(a) })
	return all
}

// Redactor covers secrets in texts: dots stand in place of each. The zero value knows no secret; several may use one at a time.
type Redactor struct {
	mutex sync.Mutex
	forms [][]byte // longest first
}

// Add has a secret covered from now on.
func (r *Redactor) Add(secret []byte) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.forms = append(r.forms, forms(secret)...)
	slices.SortStableFunc(r.forms, func(a, b []byte) int { return cmp.Or(len(b)-len(a), bytes.Compare(a, b)) })
	r.forms = slices.CompactFunc(r.forms, bytes.Equal)
}

// Longest is the length in bytes of the longest form of a secret; 0 where none is known.
func (r *Redactor) Longest() int {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if len(r.forms) == 0 {
		return 0
	}
	return len(r.forms[0])
}

// Bytes returns a text with its secrets covered.
func (r *Redactor) Bytes(text []byte) []byte {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	for _, form := range r.forms {
		text = bytes.ReplaceAll(text, form, []byte(Dots))
	}
	return text
}

// Text is Bytes for texts.
func (r *Redactor) Text(text string) string {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	for _, form := range r.forms {
		text = strings.ReplaceAll(text, string(form), Dots)
	}
	return text
}

// Hides reports whether a text holds a secret.
func (r *Redactor) Hides(text string) bool { return r.Text(text) != text }
