// Package conceal finds secrets in texts and covers them: a secret itself, each of its lines, the values in a file of
// settings, and the usual encodings of all of these.
//
// It keeps nothing and prints nothing. What it cannot know is how else a program may write a secret: a covered text is no
// proof that there is none in it.
package conceal

import (
	"bytes"
	"encoding/base64"
	"net/url"
	"regexp"
	"slices"
	"strings"
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

// Forms gives the texts by which a secret can be told, the longest first.
func Forms(secret []byte) [][]byte {
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

// Cover puts dots in place of every form.
func Cover(text []byte, forms [][]byte) []byte {
	for _, form := range forms {
		text = bytes.ReplaceAll(text, form, []byte(Dots))
	}
	return text
}

// CoverText is Cover for texts.
func CoverText(text string, forms [][]byte) string {
	for _, form := range forms {
		text = strings.ReplaceAll(text, string(form), Dots)
	}
	return text
}
