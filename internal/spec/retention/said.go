package retention

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Said is a rule as people write it.
type Said struct {
	Keep    []string    `yaml:"keep"`
	Newest  int         `yaml:"newest"`
	Younger string      `yaml:"younger"` // an age
	Drop    []string    `yaml:"drop"`
	Of      []saidGroup `yaml:"of"`
	Age     string      `yaml:"age"` // pushed: only the time of the push counts; empty: else the image's
}

type saidGroup struct {
	Match   string `yaml:"match"`
	Newest  int    `yaml:"newest"`
	Younger string `yaml:"younger"`
}

// ParseSaid reads a rule from YAML.
func ParseSaid(text []byte) (*Said, error) {
	s := &Said{}
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	decoder.KnownFields(true)
	if err := decoder.Decode(s); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return s, nil
}

// Add adds a group, written as PATTERN=NUMBER, PATTERN=AGE or PATTERN=NUMBER,AGE.
func (s *Said) Add(text string) error {
	at := strings.LastIndexByte(text, '=')
	if at <= 0 {
		return fmt.Errorf("it takes PATTERN=NUMBER[,AGE], not %q", text)
	}
	g := saidGroup{Match: text[:at]}
	for _, word := range strings.Split(text[at+1:], ",") {
		if n, err := strconv.Atoi(word); err == nil {
			g.Newest = n
		} else if _, err := ParseAge(word); err == nil {
			g.Younger = word
		} else {
			return fmt.Errorf("it takes PATTERN=NUMBER[,AGE], not %q", text)
		}
	}
	s.Of = append(s.Of, g)
	return nil
}

// Given reports whether anything is said.
func (s *Said) Given() bool {
	return len(s.Keep)+len(s.Drop)+len(s.Of) > 0 || s.Newest != 0 || s.Younger != ""
}

// Rule returns the rule, which is checked.
func (s *Said) Rule() (Rule, error) {
	r := Rule{Keep: s.Keep, Newest: s.Newest, Drop: s.Drop}
	switch s.Age {
	case "", "any":
	case "pushed":
		r.ByPush = true
	default:
		return r, fmt.Errorf("age cannot be %q: pushed or any", s.Age)
	}
	if s.Younger != "" {
		var err error
		if r.Younger, err = ParseAge(s.Younger); err != nil {
			return r, err
		}
	}
	for _, g := range s.Of {
		one := Group{Match: g.Match, Newest: g.Newest}
		if g.Younger != "" {
			var err error
			if one.Younger, err = ParseAge(g.Younger); err != nil {
				return r, err
			}
		}
		r.Of = append(r.Of, one)
	}
	return r, r.Check()
}
