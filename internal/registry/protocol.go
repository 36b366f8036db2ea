package registry

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"

	"imbricat/internal/digest"
)

// digestHeader carries the digest of what a registry sends or has stored.
const digestHeader = "Docker-Content-Digest"

// Loopback tells whether a host (with or without port) is this machine itself. Only then is plain HTTP spoken.
func Loopback(host string) bool {
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	}
	name = strings.Trim(name, "[]")
	if name == "localhost" {
		return true
	}
	ip := net.ParseIP(name)
	return ip != nil && ip.IsLoopback()
}

func baseURL(host string) string {
	if Loopback(host) {
		return "http://" + host + "/v2/"
	}
	return "https://" + host + "/v2/"
}

// Error is a registry's answer that is no success.
type Error struct {
	Op     string // "pushing the blob sha256:…"
	Where  string // HOST/REPOSITORY
	Status int    // of the HTTP answer
	Words  string // the registry's own
}

func (e *Error) Error() string {
	words := e.Words
	if words == "" {
		words = strings.ToLower(http.StatusText(e.Status))
	}
	message := fmt.Sprintf("%s: %s: the registry says: %s (%d)", e.Where, e.Op, words, e.Status)
	if e.Status == http.StatusUnauthorized {
		host, _, _ := strings.Cut(e.Where, "/")
		message += "; `imbricat login " + host + " --user NAME` keeps a login"
	}
	return message
}

// NotFound tells whether the thing asked for is not there.
func (e *Error) NotFound() bool { return e.Status == http.StatusNotFound }

// Denied tells whether credentials or rights are lacking.
func (e *Error) Denied() bool {
	return e.Status == http.StatusUnauthorized || e.Status == http.StatusForbidden
}

// Temporary tells whether the same request may succeed later.
func (e *Error) Temporary() bool {
	return e.Status == http.StatusTooManyRequests || e.Status == http.StatusRequestTimeout || e.Status >= 500
}

// words reads the errors that the distribution-spec defines for a body of an answer.
func words(body []byte) string {
	var document struct {
		Errors []struct {
			Code    string `json:"code"`
			Message string `json:"message"`
		} `json:"errors"`
	}
	if json.Unmarshal(body, &document) != nil {
		return ""
	}
	var list []string
	for _, e := range document.Errors {
		switch {
		case e.Message != "":
			list = append(list, printable(e.Message))
		case e.Code != "":
			list = append(list, printable(strings.ToLower(e.Code)))
		}
	}
	return strings.Join(list, "; ")
}

// printable keeps a registry's words to one line of bounded length without control characters.
func printable(text string) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, text)
	if len(text) > 300 {
		text = text[:300] + "…"
	}
	return text
}

// Challenge is one way of authentication that a registry asks for (RFC 9110, 11.6.1).
type Challenge struct {
	Scheme string // in lower case
	Params map[string]string
}

// ParseChallenges reads the values of WWW-Authenticate headers. What it cannot read it leaves out.
func ParseChallenges(values []string) []Challenge {
	var list []Challenge
	for _, value := range values {
		p := challengeParser{text: value}
		list = append(list, p.all()...)
	}
	return list
}

type challengeParser struct {
	text string
	at   int
}

func (p *challengeParser) all() []Challenge {
	var list []Challenge
	for {
		p.skip(" \t,")
		word := p.token()
		if word == "" {
			return list
		}
		p.skip(" \t")
		if p.at < len(p.text) && p.text[p.at] == '=' && len(list) > 0 {
			p.at++
			p.skip(" \t")
			list[len(list)-1].Params[strings.ToLower(word)] = p.value()
			continue
		}
		list = append(list, Challenge{strings.ToLower(word), map[string]string{}})
	}
}

func (p *challengeParser) skip(set string) {
	for p.at < len(p.text) && strings.IndexByte(set, p.text[p.at]) >= 0 {
		p.at++
	}
}

func (p *challengeParser) token() string {
	from := p.at
	for p.at < len(p.text) && p.text[p.at] > ' ' && p.text[p.at] < 0x7f && strings.IndexByte(`",=`, p.text[p.at]) < 0 {
		p.at++
	}
	return p.text[from:p.at]
}

func (p *challengeParser) value() string {
	if p.at >= len(p.text) || p.text[p.at] != '"' {
		return p.token()
	}
	var out strings.Builder
	for p.at++; p.at < len(p.text); p.at++ {
		switch p.text[p.at] {
		case '"':
			p.at++
			return out.String()
		case '\\':
			if p.at+1 < len(p.text) {
				p.at++
				out.WriteByte(p.text[p.at])
			}
		default:
			out.WriteByte(p.text[p.at])
		}
	}
	return out.String()
}

// nextPage gives the address of the next page that a Link header (RFC 8288) names, "" where there is none. An address on
// another host is refused.
func nextPage(current *url.URL, links []string) (string, error) {
	for _, link := range links {
		target, params, found := strings.Cut(link, ">")
		if !found || !strings.HasPrefix(strings.TrimSpace(target), "<") || !strings.Contains(params, `rel="next"`) && !strings.Contains(params, "rel=next") {
			continue
		}
		next, err := current.Parse(strings.TrimPrefix(strings.TrimSpace(target), "<"))
		if err != nil {
			return "", fmt.Errorf("the registry's next page: %w", err)
		}
		if next.Host != current.Host || next.Scheme != current.Scheme {
			return "", fmt.Errorf("the registry's next page is on another host, %s", next.Host)
		}
		return next.String(), nil
	}
	return "", nil
}

// checkAnswer makes sure that content is what a registry's digest header says, where there is one.
func checkAnswer(h http.Header, body []byte) error {
	said := h.Get(digestHeader)
	if said == "" {
		return nil
	}
	d, err := digest.Parse(said)
	if err != nil {
		return fmt.Errorf("the registry's digest header: %w", err)
	}
	if v := d.Verifier(); true {
		v.Write(body)
		if !v.Verified() {
			return fmt.Errorf("%w: the registry says %s, and the bytes have another digest", digest.ErrMismatch, d)
		}
	}
	return nil
}
