package credential

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Source finds logins.
type Source interface {
	// Find returns the login for a repository of a registry host; without one it is empty. An empty repository is the
	// registry itself.
	Find(ctx context.Context, host, repository string) (Login, error)
}

// Refuser is a Source that wants to know when a login was refused, for it may have a newer one.
type Refuser interface {
	Refused(host, repository string)
}

// Confirmed is a Source that knows which issuer of tokens a person has confirmed for a registry, for logins of any source.
type Confirmed interface {
	Issuer(host, repository string) string
}

// Chain asks several sources, the first of which that has a login counts.
type Chain []Source

// Find implements Source.
func (c Chain) Find(ctx context.Context, host, repository string) (Login, error) {
	for _, one := range c {
		l, err := one.Find(ctx, host, repository)
		if err != nil {
			return l, err
		}
		if !l.Given() {
			continue
		}
		for _, other := range c {
			if knows, is := other.(Confirmed); is && l.Issuer == "" {
				l.Issuer = knows.Issuer(host, repository)
			}
		}
		return l, nil
	}
	return Login{}, nil
}

// Refused implements Refuser.
func (c Chain) Refused(host, repository string) {
	for _, one := range c {
		if r, wants := one.(Refuser); wants {
			r.Refused(host, repository)
		}
	}
}

// Fixed is one login for a registry host, or for HOST/PREFIX of repositories.
type Fixed struct {
	Place string
	Login Login
}

// Find implements Source.
func (f Fixed) Find(_ context.Context, host, repository string) (Login, error) {
	l, _ := Longest(map[string]Login{f.Place: f.Login}, host, repository)
	return l, nil
}

// Program is a program that tells a login.
type Program struct {
	Command []string
	Git     bool          // it speaks the line protocol of git's credential helpers; else it prints a token
	User    string        // whose secret the token is; empty: the token is sent as it is
	Life    time.Duration // how long what it told is used; 0: until it is refused or ends by its own word
}

// Programs asks programs, by HOST or HOST/PREFIX, and remembers for this process what they told.
type Programs struct {
	All   map[string]Program
	mutex sync.Mutex
	told  map[string]told
}

type told struct {
	login Login
	until time.Time // zero: no end is known
}

// Bounds of what a program tells.
const (
	programTime = 30 * time.Second
	maxTold     = 64 << 10
)

// Find implements Source.
func (p *Programs) Find(ctx context.Context, host, repository string) (Login, error) {
	program, found := Longest(p.All, host, repository)
	if !found {
		return Login{}, nil
	}
	p.mutex.Lock()
	defer p.mutex.Unlock()
	key := host + "/" + repository
	if known, is := p.told[key]; is && (known.until.IsZero() || time.Now().Before(known.until)) {
		return known.login, nil
	}
	fresh, err := program.ask(ctx, host, repository)
	if err != nil {
		return Login{}, fmt.Errorf("asking %s for the credentials of %s: %w", program.Command[0], host, err)
	}
	if p.told == nil {
		p.told = map[string]told{}
	}
	p.told[key] = fresh
	return fresh.login, nil
}

// Refused implements Refuser: the program is asked anew.
func (p *Programs) Refused(host, repository string) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	delete(p.told, host+"/"+repository)
}

func (p Program) ask(ctx context.Context, host, repository string) (told, error) {
	ctx, cancel := context.WithTimeout(ctx, programTime)
	defer cancel()
	args, input := p.Command[1:], ""
	if p.Git {
		args = append(append([]string{}, args...), "get")
		input = "protocol=https\nhost=" + host + "\n"
		if repository != "" {
			input += "path=" + repository + "\n"
		}
		input += "\n"
	}
	command := exec.CommandContext(ctx, p.Command[0], args...)
	command.Stdin = strings.NewReader(input)
	command.WaitDelay = time.Second
	// What a program complains of may hold secrets, so it is not repeated.
	out := &bounded{left: maxTold}
	command.Stdout = out
	if err := command.Run(); err != nil {
		if ctx.Err() != nil {
			err = fmt.Errorf("it did not answer within %s", programTime)
		}
		return told{}, err
	}
	if p.Git {
		return p.readGit(out.text.Bytes())
	}
	token := strings.TrimSpace(out.text.String())
	if token == "" || strings.ContainsAny(token, "\r\n\x00") {
		return told{}, errors.New("it printed no token, which is one line of text")
	}
	t := told{login: Login{Token: Secret(token)}, until: p.end()}
	if p.User != "" {
		t.login = Login{User: p.User, Secret: Secret(token)}
	}
	return t, nil
}

func (p Program) end() time.Time {
	if p.Life == 0 {
		return time.Time{}
	}
	return time.Now().Add(p.Life)
}

// readGit reads what gitcredentials(7) and git-credential(1) define: lines KEY=VALUE.
func (p Program) readGit(text []byte) (told, error) {
	t := told{until: p.end()}
	for lines := bufio.NewScanner(bytes.NewReader(text)); lines.Scan(); {
		key, value, found := strings.Cut(lines.Text(), "=")
		if !found {
			continue
		}
		switch key {
		case "username":
			t.login.User = value
		case "password":
			t.login.Secret = Secret(value)
		case "password_expiry_utc":
			if seconds, err := strconv.ParseInt(value, 10, 64); err == nil {
				t.until = time.Unix(seconds, 0)
			}
		}
	}
	if t.login.Secret == "" {
		return told{}, nil // it knows none
	}
	return t, nil
}

// bounded keeps the first bytes that are written.
type bounded struct {
	text bytes.Buffer
	left int
}

func (b *bounded) Write(p []byte) (int, error) {
	if len(p) > b.left {
		return 0, io.ErrShortWrite
	}
	b.left -= len(p)
	return b.text.Write(p)
}
