package standin

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"
)

// service is what tokens are for.
const service = "stand-in"

// keyFile holds the key that tokens are signed with.
const keyFile = "key"

// makeKey makes a key for tokens where there is none.
func (s *storage) makeKey() error {
	_, err := s.read(keyFile)
	if errors.Is(err, fs.ErrNotExist) {
		err = s.writeKey()
	}
	return err
}

func (s *storage) writeKey() error {
	key := make([]byte, 32)
	rand.Read(key)
	return s.write(keyFile, key)
}

func parseKey(key []byte) ([]byte, error) {
	if len(key) < 32 {
		return nil, errors.New("the key for tokens is damaged; remove it")
	}
	return key, nil
}

// key is what tokens are signed with now.
func (s *Server) key() ([]byte, error) { return s.keys.get(s.storage.files) }

// RotateKey makes another key for tokens: every token that was issued before is refused from then on, beside a running stand-in too.
func (s *Server) RotateKey() error {
	if err := s.storage.writeKey(); err != nil {
		return err
	}
	s.byKeeper(Event{What: "rotate", Why: "tokens that were issued before are refused from now on"})
	return nil
}

// claims are what a token says.
type claims struct {
	jwt.RegisteredClaims
	Access []grant `json:"access"`
}

// Issue makes a token for a user with rights in repositories, which may be patterns.
func (s *Server) Issue(user string, repositories, actions []string, life time.Duration) (string, error) {
	grants := []grant{}
	for _, one := range repositories {
		grants = append(grants, grant{"repository", one, actions})
	}
	return s.sign(user, grants, life)
}

func (s *Server) sign(user string, grants []grant, life time.Duration) (string, error) {
	now := time.Now()
	key, err := s.key()
	if err != nil {
		return "", err
	}
	return jwt.NewWithClaims(jwt.SigningMethodHS256, claims{jwt.RegisteredClaims{
		Issuer: service, Audience: jwt.ClaimStrings{service}, Subject: user,
		IssuedAt: jwt.NewNumericDate(now), ExpiresAt: jwt.NewNumericDate(now.Add(life)),
	}, grants}).SignedString(key)
}

// readToken verifies a token.
func (s *Server) readToken(text string) (identity, error) {
	var c claims
	_, err := jwt.ParseWithClaims(text, &c, func(*jwt.Token) (any, error) { return s.key() },
		jwt.WithValidMethods([]string{"HS256"}), jwt.WithAudience(service), jwt.WithIssuer(service), jwt.WithExpirationRequired())
	if err != nil {
		return identity{}, err
	}
	if c.Access == nil {
		c.Access = []grant{}
	}
	return identity{user: c.Subject, grants: c.Access, token: true}, nil
}

// authenticate finds out who asks. Wrong credentials are a problem; none are nobody.
func (s *Server) authenticate(r *http.Request) (identity, *problem) {
	header := r.Header.Get("Authorization")
	if s.o.Auth == AuthNone || header == "" {
		return identity{}, nil
	}
	if user, secret, given := r.BasicAuth(); given && s.o.Auth == AuthBasic {
		if who, right := s.checkUser(user, secret); right {
			return who, nil
		}
		return identity{}, refuse(http.StatusUnauthorized, "UNAUTHORIZED", "the user's name or the secret is wrong")
	}
	if scheme, text, _ := strings.Cut(header, " "); strings.EqualFold(scheme, "Bearer") {
		who, err := s.readToken(text)
		if err == nil && !s.faults.Load().expired() {
			return who, nil
		}
		return identity{}, refuse(http.StatusUnauthorized, "UNAUTHORIZED", whyInvalid(err, text))
	}
	return identity{}, refuse(http.StatusUnauthorized, "UNAUTHORIZED", "this registry takes other credentials")
}

// whyInvalid tells what is wrong with a token. Whose it was is not told.
func whyInvalid(err error, text string) string {
	switch {
	case errors.Is(err, jwt.ErrTokenSignatureInvalid):
		return "the token is not signed with the key of now: it is of another registry, or was issued before the key was changed"
	case errors.Is(err, jwt.ErrTokenExpired):
		var c claims
		if _, _, err := jwt.NewParser().ParseUnverified(text, &c); err == nil && c.ExpiresAt != nil {
			return "the token ended at " + c.ExpiresAt.UTC().Format(time.RFC3339)
		}
	}
	return "the token is no longer valid, or never was"
}

// challenge says how to come in, for what was asked.
func (s *Server) challenge(w http.ResponseWriter, r *http.Request, scope string) {
	if s.o.Auth == AuthBasic {
		w.Header().Set("WWW-Authenticate", `Basic realm="stand-in", charset="UTF-8"`)
		return
	}
	scheme := "http"
	if r.TLS != nil {
		scheme = "https"
	}
	text := fmt.Sprintf(`Bearer realm="%s://%s/token",service="%s"`, scheme, r.Host, service)
	if scope != "" {
		text += fmt.Sprintf(`,scope="%s"`, scope)
	}
	w.Header().Set("WWW-Authenticate", text)
}

// serveToken answers the token endpoint: GET with Basic credentials or none, and POST with the OAuth2 form.
func (s *Server) serveToken(w http.ResponseWriter, r *http.Request) error {
	if s.o.Auth != AuthToken {
		return refuse(http.StatusNotFound, "UNSUPPORTED", "this stand-in issues no tokens")
	}
	r.Body = http.MaxBytesReader(w, r.Body, 1<<20)
	if err := r.ParseForm(); err != nil {
		return refuse(http.StatusBadRequest, "UNSUPPORTED", "the form is malformed")
	}
	var who identity
	user, secret, given := r.BasicAuth()
	switch {
	case r.Method == http.MethodPost && r.PostForm.Get("grant_type") == "password":
		user, secret, given = r.PostForm.Get("username"), r.PostForm.Get("password"), true
	case r.Method == http.MethodPost && r.PostForm.Get("grant_type") == "refresh_token":
		known, err := s.readToken(r.PostForm.Get("refresh_token"))
		if err != nil {
			return refuse(http.StatusUnauthorized, "UNAUTHORIZED", whyInvalid(err, r.PostForm.Get("refresh_token")))
		}
		who, given = known, false
	case r.Method == http.MethodPost:
		return refuse(http.StatusBadRequest, "UNSUPPORTED", "the grant is of a kind that is not known here")
	case r.Method != http.MethodGet:
		return refuse(http.StatusMethodNotAllowed, "UNSUPPORTED", r.Method+" is not supported here")
	}
	if given {
		var right bool
		if who, right = s.checkUser(user, secret); !right {
			return refuse(http.StatusUnauthorized, "UNAUTHORIZED", "the user's name or the secret is wrong")
		}
	}
	grants := []grant{}
	for _, list := range r.Form["scope"] {
		for scope := range strings.FieldsSeq(list) {
			if g, ok := s.allowed(who, scope); ok {
				grants = append(grants, g)
			}
		}
	}
	token, err := s.sign(who.user, grants, s.o.TokenLife)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	return json.NewEncoder(w).Encode(map[string]any{"token": token, "access_token": token,
		"expires_in": int(s.o.TokenLife.Seconds()), "issued_at": time.Now().UTC().Format(time.RFC3339)})
}

// allowed cuts a scope down to what somebody may do.
func (s *Server) allowed(who identity, scope string) (grant, bool) {
	kind, rest, _ := strings.Cut(scope, ":")
	cut := strings.LastIndexByte(rest, ':')
	if kind != "repository" || cut < 0 || !nameForm.MatchString(rest[:cut]) {
		return grant{}, false
	}
	g := grant{"repository", rest[:cut], nil}
	for _, one := range []action{pull, push, remove} {
		asked := strings.Split(rest[cut+1:], ",")
		if (slices.Contains(asked, string(one)) || slices.Contains(asked, "*")) && s.entitled(who, g.Name, one) == nil {
			g.Actions = append(g.Actions, string(one))
		}
	}
	return g, len(g.Actions) > 0
}
