package workspace

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"

	"imbricat/internal/ground/redact"
	"imbricat/internal/spec/plan"
)

// mostSecret bounds a secret, in bytes.
const mostSecret = 1 << 20

// mostSaid bounds what is repeated of what a secret's command complains of, in bytes.
const mostSaid = 64 << 10

// beginning keeps the first bytes that are written and takes the rest for read.
type beginning struct {
	text bytes.Buffer
	left int
}

// Write implements io.Writer.
func (b *beginning) Write(p []byte) (int, error) {
	n := min(len(p), b.left)
	b.left -= n
	b.text.Write(p[:n])
	return len(p), nil
}

// secrets finds secrets where the recipe says that they are. What a secret's command complains of is told, without the
// secret.
type secrets struct {
	dir  string // the project folder
	tell io.Writer
}

// Secret implements command.Secrets.
func (f secrets) Secret(ctx context.Context, _ string, s plan.Secret) ([]byte, error) {
	var value []byte
	switch {
	case s.Env != "":
		text, set := os.LookupEnv(s.Env)
		if !set {
			return nil, fmt.Errorf("the environment variable %s is not set", s.Env)
		}
		value = []byte(text)
	case len(s.Command) > 0:
		var out bytes.Buffer
		said := &beginning{left: mostSaid}
		c := exec.CommandContext(ctx, s.Command[0], s.Command[1:]...)
		c.Dir, c.Stdout, c.Stderr = filepath.Join(f.dir, filepath.FromSlash(s.In)), &out, said
		err := c.Run()
		// What it complains of may repeat the secret, which is known when it has ended.
		var own redact.Redactor
		own.Add(out.Bytes())
		_, _ = f.tell.Write(own.Bytes(said.text.Bytes()))
		if err != nil {
			return nil, fmt.Errorf("its command %s: %w", s.Command[0], err)
		}
		value = out.Bytes()
	default:
		name := s.File
		if !filepath.IsAbs(name) {
			name = filepath.Join(f.dir, filepath.FromSlash(s.In), name)
		}
		file, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer file.Close()
		if value, err = io.ReadAll(io.LimitReader(file, mostSecret+1)); err != nil {
			return nil, err
		}
	}
	if len(value) > mostSecret {
		return nil, fmt.Errorf("it has more than %d bytes", mostSecret)
	}
	return value, nil
}

// Secret returns the value of a secret of the plan that comes from elsewhere, and is not made of others. What its command complains of goes to
// tell.
func (p *Planned) Secret(ctx context.Context, name string, tell io.Writer) ([]byte, error) {
	dir, err := filepath.Abs(p.Dir)
	if err != nil {
		return nil, err
	}
	value, err := secrets{dir, tell}.Secret(ctx, name, p.Plan.Secrets[name])
	if err != nil {
		return nil, fmt.Errorf("the secret %q: %w", name, err)
	}
	return value, nil
}
