// Package settings reads what a person chooses for every project, from imbricat/config.yaml in the user's configuration folder and from
// IMBRICAT_ variables of the environment: registries with their logins, the shared cache, whose entries are believed, bounds of commands.
// It opens nothing and asks nobody.
package settings

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/adrg/xdg"
	"github.com/dustin/go-humanize"
	"go.yaml.in/yaml/v3"

	"imbricat/internal/engine/sandbox"
	"imbricat/internal/flow"
	"imbricat/internal/ground/files"
	"imbricat/internal/ground/notice"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/credential"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/share"
	"imbricat/internal/spec/recipe"
	"imbricat/internal/spec/retention"
)

// Settings is what a person chooses for every project, in imbricat/config.yaml of the user's configuration folder.
type Settings struct {
	Cache struct {
		Share string `yaml:"share"`
		// Direction is read, write or both; empty: both.
		Direction string `yaml:"direction"`
		Mode      string `yaml:"mode"` // what direction was called
		Key       string `yaml:"key"`  // file of the private key that signs what is shared
	} `yaml:"cache"`
	Trust  map[string][]string `yaml:"trust"` // whose entries of a shared cache are believed: HOST/REPOSITORY or a folder → public keys
	Limits struct {
		Memory    string `yaml:"memory"`    // of one command and what it starts, such as 8GB
		Processes int    `yaml:"processes"` // of one command
		Disk      string `yaml:"disk"`      // that one command writes
	} `yaml:"limits"`
	Store struct {
		AtMost string `yaml:"at-most"` // of what can be made again, such as 20GB
	} `yaml:"store"`
	Authorities []string                     `yaml:"authorities"` // files of certificates that commands are to believe
	Notify      notices                      `yaml:"notify"`      // addresses that are told of runs
	Registries  map[string]*registrySettings `yaml:"registries"`  // by HOST[:PORT], credentials by HOST[:PORT]/PREFIX too

	Bounds   sandbox.Bounds         `yaml:"-"` // from Limits
	AtMost   int64                  `yaml:"-"` // from Store, in bytes
	Vouched  []byte                 `yaml:"-"` // from Authorities: certificates as PEM text
	Believed map[string]share.Trust `yaml:"-"` // from Trust
	settings map[string]registry.Settings
	programs map[string]credential.Program
}

// Notice is an address that is told of runs.
type Notice struct {
	To  string `yaml:"to"`
	Key string `yaml:"key"` // file of what signs what it is told; empty: it is not signed
	On  words  `yaml:"on"`  // outcomes of a receipt; none: those that failed and those that are done
}

// notices are some, or one alone.
type notices []Notice

// UnmarshalYAML implements yaml.Unmarshaler.
func (n *notices) UnmarshalYAML(node *yaml.Node) error {
	items := []*yaml.Node{node}
	if node.Kind == yaml.SequenceNode {
		items = node.Content
	}
	for _, item := range items {
		for i := 0; i+1 < len(item.Content); i += 2 {
			if key := item.Content[i]; !slices.Contains([]string{"to", "key", "on"}, key.Value) {
				return fmt.Errorf("line %d: there is no key %s here", key.Line, key.Value)
			}
		}
		var one Notice
		if err := item.Decode(&one); err != nil {
			return err
		}
		*n = append(*n, one)
	}
	return nil
}

// words are some, or one alone.
type words []string

// UnmarshalYAML implements yaml.Unmarshaler.
func (w *words) UnmarshalYAML(node *yaml.Node) error {
	if node.Kind == yaml.ScalarNode {
		*w = words{node.Value}
		return nil
	}
	return node.Decode((*[]string)(w))
}

// registrySettings is what a person chooses for one registry.
type registrySettings struct {
	PlainHTTP   bool     `yaml:"plain-http"`
	Issuer      string   `yaml:"issuer"`      // https://HOST of its tokens, where that is another host
	Mirrors     []string `yaml:"mirrors"`     // HOST[/PREFIX], asked first for what is pulled
	Authority   string   `yaml:"authority"`   // file with certificates, beside the system's
	Certificate string   `yaml:"certificate"` // of the client, with its key
	Key         string   `yaml:"key"`
	Parallel    int      `yaml:"parallel"`
	Chunk       string   `yaml:"chunk"` // such as 32MB
	Credentials *struct {
		Helper []string `yaml:"helper"` // a program that speaks the line protocol of git's credential helpers
		Token  []string `yaml:"token"`  // a program that prints a token
		User   string   `yaml:"user"`   // whose secret the token is
		Life   string   `yaml:"life"`   // of what the program tells
	} `yaml:"credentials"`
}

// File is where the settings are.
func File() string { return filepath.Join(xdg.ConfigHome, "imbricat", "config.yaml") }

// defaultAtMost is how much a store holds of what can be made again where nobody has chosen, in bytes.
const defaultAtMost = 20e9

// maxSize bounds the user's configuration, in bytes.
const maxSize = 1 << 20

// Read reads and checks the user's configuration; without the file there is nothing in it.
func Read() (*Settings, error) {
	c := &Settings{settings: map[string]registry.Settings{}, programs: map[string]credential.Program{}, AtMost: defaultAtMost}
	f, err := os.Open(File())
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	var text []byte
	if err == nil {
		defer f.Close()
		text, err = io.ReadAll(io.LimitReader(f, maxSize))
	}
	if err == nil {
		decoder := yaml.NewDecoder(bytes.NewReader(text))
		decoder.KnownFields(true)
		if err = decoder.Decode(c); errors.Is(err, io.EOF) {
			err = nil
		}
	}
	if err == nil && c.Cache.Mode != "" {
		err = errors.New(`cache: "mode" is called "direction"`)
	}
	if err == nil && !slices.Contains([]string{"", "read", "write", "both"}, c.Cache.Direction) {
		err = fmt.Errorf("cache: direction: cannot be %q: read, write or both", c.Cache.Direction)
	}
	if err == nil {
		err = c.readLimits()
	}
	if err == nil {
		err = sizeFrom("store: at-most", c.Store.AtMost, &c.AtMost)
	}
	if err == nil {
		err = c.readTrust()
	}
	if err == nil {
		err = c.readNotices()
	}
	for _, name := range c.Authorities {
		if err == nil {
			err = c.vouch(name)
		}
	}
	for place, one := range c.Registries {
		if err == nil && one != nil {
			if err = c.add(place, one); err != nil {
				err = fmt.Errorf("registries: %s: %w", place, err)
			}
		}
	}
	if err != nil {
		return nil, flow.Usagef("%s: %w", File(), plainYAML(err))
	}
	return c, nil
}

// readNotices checks the addresses that are told of runs.
func (c *Settings) readNotices() error {
	for i := range c.Notify {
		one := &c.Notify[i]
		if err := notice.CheckAddress(one.To); err != nil {
			return fmt.Errorf("notify: to: %w", err)
		}
		if len(one.On) == 0 {
			one.On = recipe.DefaultOutcomes
		}
		for _, word := range one.On {
			if !slices.Contains(recipe.Outcomes, word) {
				return fmt.Errorf("notify: on: cannot be %q: %s", word, strings.Join(recipe.Outcomes, ", "))
			}
		}
		if one.Key != "" {
			one.Key = beside(one.Key)
		}
	}
	return nil
}

// readTrust checks whose entries of shared caches are believed. A key may also stand in a file.
func (c *Settings) readTrust() error {
	c.Believed = map[string]share.Trust{}
	for place, keys := range c.Trust {
		texts := slices.Clone(keys)
		for i, key := range keys {
			if !strings.HasSuffix(key, ".pem") {
				continue
			}
			text, err := os.ReadFile(beside(key))
			if err != nil {
				return fmt.Errorf("trust: %s: %w", place, err)
			}
			texts[i] = string(text)
		}
		trust, err := share.ParseTrust(texts)
		if err != nil {
			return fmt.Errorf("trust: %s: %w", place, err)
		}
		ref, err := reference.Parse(place)
		if err != nil || ref.Kind != reference.Registry && !filepath.IsAbs(place) || ref.Tag != "" || ref.Digest != "" {
			return fmt.Errorf("trust: %q: write HOST/REPOSITORY or a whole path of a folder", place)
		}
		c.Believed[place] = trust
	}
	return nil
}

// signingVariable holds the private key that signs what is shared.
const signingVariable = "IMBRICAT_SIGNING_KEY"

// Signer returns what signs entries of a shared cache: the key in the environment, or that of the file; nil where there is none.
func (c *Settings) Signer() (*share.Signer, error) {
	text, from := os.Getenv(signingVariable), signingVariable
	if text == "" {
		if c.Cache.Key == "" {
			return nil, nil
		}
		from = beside(c.Cache.Key)
		raw, err := os.ReadFile(from)
		if err != nil {
			return nil, flow.Usagef("cache: key: %w", err)
		}
		text = string(raw)
	}
	signer, err := share.ParseSigner(text)
	if err != nil {
		return nil, flow.Usagef("%s: %w", from, err)
	}
	return signer, nil
}

// beside is a file that the configuration names: relative names start at its folder.
func beside(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(filepath.Dir(File()), name)
}

// vouch reads a file of certificates.
func (c *Settings) vouch(name string) error {
	f, err := files.OpenRegular(beside(name))
	if err != nil {
		return fmt.Errorf("authorities: %s: %w", name, err)
	}
	defer f.Close()
	certificates, err := files.Certificates(f)
	if err != nil {
		return fmt.Errorf("authorities: %s: %w", name, err)
	}
	c.Vouched = append(c.Vouched, certificates...)
	return nil
}

// readLimits checks the bounds of commands.
func (c *Settings) readLimits() error {
	err := errors.Join(sizeFrom("limits: memory", c.Limits.Memory, &c.Bounds.Memory), sizeFrom("limits: disk", c.Limits.Disk, &c.Bounds.Disk))
	if err != nil {
		return err
	}
	if c.Bounds.Processes = c.Limits.Processes; c.Bounds.Processes < 0 {
		return errors.New("limits: processes must be a number above 0")
	}
	return nil
}

// sizeFrom reads a size, where there is one.
func sizeFrom(key, text string, to *int64) error {
	if text == "" {
		return nil
	}
	n, err := humanize.ParseBytes(text)
	if err != nil || n == 0 || n > 1<<60 {
		return fmt.Errorf("%s must be a size such as 8GB, not %q", key, text)
	}
	*to = int64(n)
	return nil
}

var unknownKey = regexp.MustCompile(`field (\S+) not found in type .*`)

// plainYAML tells a mistake in YAML without the names of our types.
func plainYAML(err error) error {
	var types *yaml.TypeError
	if !errors.As(err, &types) || len(types.Errors) == 0 {
		return err
	}
	return errors.New(unknownKey.ReplaceAllString(types.Errors[0], "there is no key $1 here"))
}

// add checks what is chosen for a registry.
func (c *Settings) add(place string, one *registrySettings) (err error) {
	host, _, _ := strings.Cut(place, "/")
	if err := reference.CheckHost(host); err != nil {
		return err
	}
	s := registry.Settings{PlainHTTP: one.PlainHTTP, Mirrors: one.Mirrors, Parallel: one.Parallel, Issuer: one.Issuer}
	if one.Issuer != "" && !isIssuer(one.Issuer) {
		return fmt.Errorf("issuer: %q: write https://HOST", one.Issuer)
	}
	for _, mirror := range one.Mirrors {
		at, _, _ := strings.Cut(mirror, "/")
		if err := reference.CheckHost(at); err != nil {
			return fmt.Errorf("mirrors: %w", err)
		}
	}
	if one.Parallel < 0 || one.Parallel > 64 {
		return errors.New("parallel: a number from 1 to 64")
	}
	if one.Chunk != "" {
		n, err := humanize.ParseBytes(one.Chunk)
		if err != nil || n < 1e6 || n > 1<<40 {
			return fmt.Errorf("chunk: write a size from 1MB on, such as 16MB, not %q", one.Chunk)
		}
		s.Chunk = int64(n)
	}
	if s.TLS, err = one.tls(); err != nil {
		return err
	}
	c.settings[place] = s
	if k := one.Credentials; k != nil {
		p := credential.Program{Command: k.Token, User: k.User}
		if p.Git = len(k.Helper) > 0; p.Git {
			p.Command = k.Helper
		}
		if (len(k.Helper) > 0) == (len(k.Token) > 0) || p.Command[0] == "" {
			return errors.New("credentials: takes helper or token, a command as a list of words")
		}
		if k.Life != "" {
			if p.Life, err = retention.ParseAge(k.Life); err != nil {
				return fmt.Errorf("credentials: life: %w", err)
			}
		}
		c.programs[place] = p
	}
	return nil
}

// tls reads the files of certificates. Relative paths start at the configuration's folder.
func (r *registrySettings) tls() (*tls.Config, error) {
	if r.Authority == "" && r.Certificate == "" {
		if r.Key != "" {
			return nil, errors.New("key: there is no certificate for it")
		}
		return nil, nil
	}
	t := &tls.Config{MinVersion: tls.VersionTLS12}
	if r.Authority != "" {
		text, err := os.ReadFile(beside(r.Authority))
		if err != nil {
			return nil, fmt.Errorf("authority: %w", err)
		}
		if t.RootCAs, err = x509.SystemCertPool(); err != nil {
			t.RootCAs = x509.NewCertPool()
		}
		if !t.RootCAs.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("authority: %s holds no certificate", r.Authority)
		}
	}
	if r.Certificate != "" {
		pair, err := tls.LoadX509KeyPair(beside(r.Certificate), beside(r.Key))
		if err != nil {
			return nil, fmt.Errorf("certificate: %w", err)
		}
		t.Certificates = []tls.Certificate{pair}
	}
	return t, nil
}

// Variables of the environment that hold the login for one registry.
const (
	registryVariable = "IMBRICAT_REGISTRY" // HOST[:PORT], or with the beginning of repositories' names
	userVariable     = "IMBRICAT_USER"
	SecretVariable   = "IMBRICAT_SECRET"
	TokenVariable    = "IMBRICAT_TOKEN" // instead of a user with a secret
	// issuerVariable is who issues the registry's tokens, where that is another host: https://HOST.
	issuerVariable = "IMBRICAT_ISSUER"
)

// isIssuer reports whether a text is SCHEME://HOST, as issuers of tokens are named.
func isIssuer(text string) bool {
	scheme, host, found := strings.Cut(text, "://")
	return found && (scheme == "https" || scheme == "http") && reference.CheckHost(host) == nil
}

// Logins says where the credentials for registries come from: the environment, programs, and the file, in this order.
func (c *Settings) Logins() (credential.Chain, error) {
	chain := credential.Chain{}
	if place := os.Getenv(registryVariable); place != "" {
		host, _, _ := strings.Cut(place, "/")
		if err := reference.CheckHost(host); err != nil {
			return nil, flow.Usagef("%s: %w", registryVariable, err)
		}
		login := credential.Login{User: os.Getenv(userVariable), Secret: credential.Secret(os.Getenv(SecretVariable)), Token: credential.Secret(os.Getenv(TokenVariable))}
		if issuer := strings.TrimSuffix(os.Getenv(issuerVariable), "/"); issuer != "" {
			if !isIssuer(issuer) {
				return nil, flow.Usagef("%s must be https://HOST, not %q", issuerVariable, issuer)
			}
			own := c.settings[host]
			own.Issuer = issuer
			c.settings[host] = own
		}
		if login.Secret == "" && login.Token == "" {
			return nil, flow.Usagef("%s names a registry, and neither %s nor %s holds a secret for it", registryVariable, SecretVariable, TokenVariable)
		}
		chain = append(chain, credential.Fixed{Place: strings.TrimSuffix(place, "/"), Login: login})
	}
	return append(chain, &credential.Programs{All: c.programs}, Credentials()), nil
}

// Client returns the client for registries. o gives what is no setting.
func (c *Settings) Client(o registry.Options) *registry.Client {
	o.Settings, o.Patience = func(host string) registry.Settings { return c.settings[host] }, patience()
	return registry.New(o)
}

// patience is how long requests to registries are tried again in all.
func patience() time.Duration {
	if d, err := time.ParseDuration(os.Getenv("IMBRICAT_PATIENCE")); err == nil && d > 0 {
		return d
	}
	return 0
}

// Credentials returns the file of logins.
func Credentials() *credential.File {
	return credential.OpenFile(filepath.Join(xdg.ConfigHome, "imbricat", "credentials.json"))
}
