package registry

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"imbricat/internal/remote/credential"
)

// token is an Authorization header with its end.
type token struct {
	header string
	until  time.Time // zero: no end is known
	issued bool      // by an issuer, just now
}

// issuers remembers what was issued, by host, login and scope, and which address issues for a host.
type issuers struct {
	mutex  sync.Mutex
	tokens map[string]token
	seen   map[string]string // host → SCHEME://HOST of its issuer
	asking sync.Map          // keys of tokens → *sync.Mutex
}

// leeway is how long before its end a token is no longer used: requests take their time.
const leeway = 10 * time.Second

func (i *issuers) get(key string) string {
	i.mutex.Lock()
	defer i.mutex.Unlock()
	t := i.tokens[key]
	if !t.until.IsZero() && time.Now().After(t.until) {
		delete(i.tokens, key)
		return ""
	}
	return t.header
}

func (i *issuers) put(key string, t token) {
	i.mutex.Lock()
	defer i.mutex.Unlock()
	i.tokens[key] = t
}

// drop forgets what was refused, unless somebody has renewed it meanwhile.
func (i *issuers) drop(key, header string) {
	i.mutex.Lock()
	defer i.mutex.Unlock()
	if i.tokens[key].header == header {
		delete(i.tokens, key)
	}
}

// alone lets one request at a time ask for a token: the others use what it gets.
func (i *issuers) alone(key string) (release func()) {
	lock, _ := i.asking.LoadOrStore(key, &sync.Mutex{})
	lock.(*sync.Mutex).Lock()
	return lock.(*sync.Mutex).Unlock
}

func (i *issuers) note(host, issuer string) {
	i.mutex.Lock()
	defer i.mutex.Unlock()
	if i.seen == nil {
		i.seen = map[string]string{}
	}
	i.seen[host] = issuer
}

// Issuer is the issuer of tokens that a host named while this client spoke to it, SCHEME://HOST; "" where it named none.
func (c *Client) Issuer(host string) string {
	c.issuers.mutex.Lock()
	defer c.issuers.mutex.Unlock()
	return c.issuers.seen[host]
}

// authorized sends a request, and again with credentials where the registry asks for them.
func (c *Client) authorized(ctx context.Context, r request) (*http.Response, error) {
	resp, err := c.authorize(ctx, r)
	var answer *Error
	if errors.As(err, &answer) && answer.Denied() && c.o.Logins != nil {
		if login, findErr := c.o.Logins.Find(ctx, r.host, r.repository); findErr == nil {
			answer.As = login.User
		}
	}
	return resp, err
}

func (c *Client) authorize(ctx context.Context, r request) (*http.Response, error) {
	key := r.host + " " + r.scope
	if r.scope == "" {
		key += r.repository
	}
	used := token{header: c.issuers.get(key)}
	resp, err := c.send(ctx, r, used.header)
	// A token that was good before may have ended, and so may the next one; a program may know a newer secret.
	for attempt := 0; attempt < 2 && err == nil && resp.StatusCode == http.StatusUnauthorized; attempt++ {
		c.issuers.drop(key, used.header)
		challenges := ParseChallenges(resp.Header.Values("WWW-Authenticate"))
		refused := c.failure(r, resp)
		if refuser, renews := c.o.Logins.(credential.Refuser); attempt > 0 && renews {
			refuser.Refused(r.host, r.repository)
		}
		fresh, err := c.renew(ctx, r, key, challenges)
		if err != nil {
			return nil, err
		}
		if fresh.header == "" || fresh.header == used.header && !fresh.issued {
			return nil, refused
		}
		used = fresh
		if resp, err = c.send(ctx, r, used.header); err != nil {
			return nil, err
		}
	}
	resp, err = c.judge(r, resp, err)
	var answer *Error
	if errors.As(err, &answer) {
		answer.known = used.issued && strings.HasPrefix(used.header, "Bearer ")
	}
	return resp, err
}

// renew gets credentials for a key, or takes those that another request got meanwhile.
func (c *Client) renew(ctx context.Context, r request, key string, challenges []Challenge) (token, error) {
	defer c.issuers.alone(key)()
	if header := c.issuers.get(key); header != "" {
		return token{header: header, issued: true}, nil
	}
	fresh, err := c.answer(ctx, r, challenges)
	if err == nil && fresh.header != "" {
		c.issuers.put(key, fresh)
	}
	return fresh, err
}

func (c *Client) judge(r request, resp *http.Response, err error) (*http.Response, error) {
	if err != nil {
		return nil, err
	}
	for _, status := range r.want {
		if resp.StatusCode == status {
			return resp, nil
		}
	}
	return nil, c.failure(r, resp)
}

// failure reads a bounded part of an answer into an error, and closes it.
func (c *Client) failure(r request, resp *http.Response) *Error {
	body, _ := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	resp.Body.Close()
	if bytes.Contains(body, []byte("HTTP request to an HTTPS server")) {
		// What common servers answer to plain HTTP on a port for HTTPS.
		return &Error{Op: r.op, Where: r.where, Status: resp.StatusCode, Words: "this port speaks HTTPS; name its authority under registries in the user's configuration"}
	}
	return &Error{Op: r.op, Where: r.where, Status: resp.StatusCode, Words: words(body), Wait: retryAfter(resp.Header), header: resp.Header}
}

// answer makes the Authorization header for the first challenge that can be met; a token before a name with a secret.
func (c *Client) answer(ctx context.Context, r request, challenges []Challenge) (token, error) {
	var login credential.Login
	if c.o.Logins != nil {
		var err error
		if login, err = c.o.Logins.Find(ctx, r.host, r.repository); err != nil {
			return token{}, err
		}
	}
	if login.Given() && !c.safe(r) {
		return token{}, fmt.Errorf("%s: %s: %w: credentials are not sent to %s over plain HTTP", r.where, r.op, ErrRefused, r.host)
	}
	for _, challenge := range challenges {
		if challenge.Scheme == "bearer" {
			if login.Token != "" {
				return token{header: "Bearer " + login.Token.Reveal()}, nil
			}
			return c.token(ctx, r, challenge, login)
		}
	}
	for _, challenge := range challenges {
		if challenge.Scheme == "basic" && login.User+login.Secret.Reveal() != "" {
			return token{header: basic(login)}, nil
		}
	}
	return token{}, nil
}

// safe reports whether a secret may be sent with a request.
func (c *Client) safe(r request) bool {
	u, err := url.Parse(r.url)
	return err == nil && (u.Scheme == "https" || c.plain(u.Host))
}

func basic(l credential.Login) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(l.User+":"+l.Secret.Reveal()))
}

// token asks the issuer that a challenge names for a token, with the login where there is one, else as anybody.
func (c *Client) token(ctx context.Context, r request, challenge Challenge, login credential.Login) (token, error) {
	realm, err := url.Parse(challenge.Params["realm"])
	if err != nil || realm.Host == "" || realm.User != nil {
		return token{}, fmt.Errorf("%s: the registry's challenge names no issuer of tokens", r.where)
	}
	asked, err := url.Parse(r.url)
	if err != nil {
		return token{}, err
	}
	if err := c.checkTarget(asked, realm); err != nil {
		return token{}, fmt.Errorf("%s: the registry's issuer of tokens: %w", r.where, err)
	}
	issuer := realm.Scheme + "://" + realm.Host
	if login.Given() && !login.Confirms && !c.mayIssue(r.host, issuer, login, realm.Host == asked.Host) {
		return token{}, &IssuerError{Host: r.host, Now: issuer, Before: login.Issuer}
	}
	query := url.Values{}
	if service := challenge.Params["service"]; service != "" {
		query.Set("service", service)
	}
	scope := challenge.Params["scope"]
	if r.scope != "" {
		scope = r.scope
	}
	for one := range strings.FieldsSeq(scope) {
		query.Add("scope", one)
	}
	t, err := c.askIssuer(ctx, r, realm, query, login)
	if err == nil {
		c.issuers.note(r.host, issuer)
	}
	return t, err
}

// mayIssue reports whether a login may go to an issuer: one that was confirmed at login, or that the settings name, or, where
// none was confirmed, the registry itself.
func (c *Client) mayIssue(host, issuer string, login credential.Login, itself bool) bool {
	return issuer == login.Issuer || issuer == c.settings(host).Issuer || itself && login.Issuer == ""
}

// askIssuer speaks the GET form, and the POST form of OAuth2 (RFC 6749, 4.3) where an issuer knows no other.
func (c *Client) askIssuer(ctx context.Context, r request, realm *url.URL, query url.Values, login credential.Login) (token, error) {
	get := *realm
	both := realm.Query()
	for name, values := range query {
		both[name] = values
	}
	get.RawQuery = both.Encode()
	ask := request{op: "asking for a token", where: r.where, host: realm.Host, method: http.MethodGet, url: get.String(), want: []int{200}}
	header := ""
	if login.Given() {
		header = basic(login)
	}
	resp, err := c.send(ctx, ask, header)
	resp, err = c.judge(ask, resp, err)
	var answer *Error
	if errors.As(err, &answer) && (answer.Status == http.StatusNotFound || answer.Status == http.StatusMethodNotAllowed) && login.Given() {
		form := url.Values{"grant_type": {"password"}, "username": {login.User}, "password": {login.Secret.Reveal()}, "client_id": {"imbricat"}}
		form["service"], form["scope"] = query["service"], []string{strings.Join(query["scope"], " ")}
		text := form.Encode()
		ask.method, ask.url, ask.size = http.MethodPost, realm.String(), int64(len(text))
		ask.header = http.Header{"Content-Type": {"application/x-www-form-urlencoded"}}
		ask.body = func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }
		resp, err = c.send(ctx, ask, "")
		resp, err = c.judge(ask, resp, err)
	}
	if err != nil {
		return token{}, err
	}
	defer resp.Body.Close()
	return readToken(r, resp.Body)
}

// minLife is what a token is good for at least, where its issuer says nothing else.
const minLife = time.Minute

func readToken(r request, body io.Reader) (token, error) {
	var answer struct {
		Token       string `json:"token"`
		AccessToken string `json:"access_token"`
		ExpiresIn   int    `json:"expires_in"`
	}
	if err := json.NewDecoder(io.LimitReader(body, 1<<20)).Decode(&answer); err != nil {
		return token{}, fmt.Errorf("%s: asking for a token: the answer is not JSON: %w", r.where, err)
	}
	if answer.Token == "" {
		answer.Token = answer.AccessToken
	}
	if answer.Token == "" || strings.ContainsAny(answer.Token, "\r\n") {
		return token{}, fmt.Errorf("%s: asking for a token: the answer holds none", r.where)
	}
	life := minLife
	if answer.ExpiresIn > 0 {
		life = min(time.Duration(answer.ExpiresIn)*time.Second, 24*time.Hour)
	}
	return token{"Bearer " + answer.Token, time.Now().Add(max(life-leeway, life/2)), true}, nil
}

// IssuerError is a registry that names an issuer of tokens which nobody has confirmed.
type IssuerError struct{ Host, Now, Before string }

func (e *IssuerError) Error() string {
	before := "none before"
	if e.Before != "" {
		before = e.Before + " before"
	}
	return fmt.Sprintf("%s: the registry wants credentials to go to %s, which was %s; if that is right, `imbricat login %s` confirms it, or IMBRICAT_ISSUER=%s in a pipeline, or issuer: under registries in the settings",
		e.Host, e.Now, before, e.Host, e.Now)
}

const loggingIn = "logging in" // what messages say of a login

// Ping asks a registry whether it is one and takes the login that the client has for it. asked tells whether the
// registry wanted one: where anybody may come in, a login is not checked.
func (c *Client) Ping(ctx context.Context, host string) (asked bool, err error) {
	r := request{op: loggingIn, where: host, host: host, method: http.MethodGet, url: c.baseURL(host), want: []int{200}}
	resp, err := c.do(ctx, r)
	if err != nil {
		return false, err
	}
	return c.issuers.get(r.host+" ") != "", resp.Body.Close()
}
