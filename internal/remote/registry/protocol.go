package registry

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"imbricat/internal/ground/digest"
)

// Headers of the distribution-spec.
const (
	digestHeader     = "Docker-Content-Digest" // of what a registry sends or has stored
	subjectHeader    = "OCI-Subject"           // that it knows what refers to what
	filtersHeader    = "OCI-Filters-Applied"
	chunkLeastHeader = "OCI-Chunk-Min-Length"
)

// Loopback reports whether a host (with or without port) is this machine itself. Only then is plain HTTP spoken.
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

// Error is a registry's answer that is no success.
type Error struct {
	Op     string        // "pushing the blob sha256:…"
	Where  string        // HOST/REPOSITORY
	Status int           // of the HTTP answer
	Words  string        // the registry's own
	Wait   time.Duration // that the registry asks for; 0: none
	As     string        // the user whose login it was; empty: any request

	known  bool // an issuer of tokens has taken the login
	header http.Header
}

func (e *Error) Error() string {
	words := e.Words
	if words == "" {
		words = strings.ToLower(http.StatusText(e.Status))
	}
	message := fmt.Sprintf("%s: %s: the registry says: %s (%d)", e.Where, e.Op, words, e.Status)
	host, _, _ := strings.Cut(e.Where, "/")
	switch {
	case e.Status == http.StatusRequestEntityTooLarge && strings.HasPrefix(e.Op, pushingBlob):
		message += "; chunk: under registries: " + host + ": in the settings sends it in smaller parts, such as chunk: 10MB"
	case e.Denied() && e.As != "" && (e.known || e.Status == http.StatusForbidden):
		message += fmt.Sprintf("; the login is that of %q, which lacks the right", e.As)
	case e.Status != http.StatusUnauthorized:
	case e.Op == loggingIn:
		message += fmt.Sprintf("; it does not know the user %q with this secret", e.As)
	case e.As != "":
		message += fmt.Sprintf("; it does not take the login of %q that is kept: `imbricat login %s --user NAME` keeps another", e.As, host)
	default:
		message += "; `imbricat login " + host + " --user NAME` keeps a login"
	}
	return message
}

// NotFound reports whether the thing asked for is not there.
func (e *Error) NotFound() bool { return e.Status == http.StatusNotFound }

// Denied reports whether credentials or rights are lacking.
func (e *Error) Denied() bool {
	return e.Status == http.StatusUnauthorized || e.Status == http.StatusForbidden
}

// Unsupported reports whether the registry does not know how to do what was asked.
func (e *Error) Unsupported() bool {
	return e.Status == http.StatusNotFound || e.Status == http.StatusMethodNotAllowed || e.Status == http.StatusNotImplemented ||
		e.Status == http.StatusBadRequest && strings.Contains(strings.ToLower(e.Words), "unsupported")
}

// Temporary reports whether the same request may succeed later.
func (e *Error) Temporary() bool {
	return e.Status == http.StatusTooManyRequests || e.Status == http.StatusRequestTimeout ||
		e.Status >= 500 && e.Status != http.StatusNotImplemented && e.Status != http.StatusInsufficientStorage
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

// nextPage returns the address of the next page that a Link header (RFC 8288) names, "" where there is none. An address on
// another host is refused.
func nextPage(current *url.URL, links []string) (string, error) {
	for _, header := range links {
		for header != "" {
			var target, params string
			var found bool
			if _, header, found = strings.Cut(header, "<"); !found {
				break
			}
			if target, header, found = strings.Cut(header, ">"); !found {
				break
			}
			// The parameters of this link end where the next one begins.
			if end := strings.Index(header, "<"); end >= 0 {
				params = header[:end]
			} else {
				params = header
			}
			if !isNext(params) {
				continue
			}
			next, err := current.Parse(target)
			if err != nil {
				return "", fmt.Errorf("the registry's next page: %w", err)
			}
			if next.Host != current.Host || next.Scheme != current.Scheme {
				return "", fmt.Errorf("the registry's next page is on another host, %s", next.Host)
			}
			return next.String(), nil
		}
	}
	return "", nil
}

// isNext reports whether the parameters of a link say that it leads to the next page.
func isNext(params string) bool {
	for param := range strings.FieldsFuncSeq(params, func(r rune) bool { return r == ';' || r == ',' }) {
		name, value, _ := strings.Cut(strings.TrimSpace(param), "=")
		if strings.EqualFold(strings.TrimSpace(name), "rel") && strings.EqualFold(strings.Trim(strings.TrimSpace(value), `"`), "next") {
			return true
		}
	}
	return false
}

// rangeEnd reads how many bytes of an upload a registry has from its Range header, such as 0-99. 0-0 may stand for none
// or for one byte: it is taken for none.
func rangeEnd(text string) (int64, bool) {
	first, last, found := strings.Cut(strings.TrimPrefix(text, "bytes="), "-")
	end, err := strconv.ParseInt(last, 10, 64)
	if !found || first != "0" || err != nil || end < 0 {
		return 0, false
	}
	if end == 0 {
		return 0, true
	}
	return end + 1, end+1 > 0
}

// rangeStart reads where a part begins from a Content-Range header, such as bytes 100-199/200.
func rangeStart(text string) (int64, bool) {
	rest, unit := strings.CutPrefix(text, "bytes ")
	first, _, found := strings.Cut(rest, "-")
	start, err := strconv.ParseInt(first, 10, 64)
	return start, unit && found && err == nil && start >= 0
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
		_, _ = v.Write(body)
		if !v.Verified() {
			return fmt.Errorf("%w: the registry says %s, and the bytes have another digest", digest.ErrMismatch, d)
		}
	}
	return nil
}
