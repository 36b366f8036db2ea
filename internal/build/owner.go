package build

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"imbricat/internal/digest"
	"imbricat/internal/plan"
	"imbricat/internal/recipe"
	"imbricat/internal/tree"
)

// maxAccounts bounds the passwd and group files of an image, in bytes.
const maxAccounts = 4 << 20

// owner works out a step's owner. Names are looked up in what lies below the step.
func (b *builder) owner(ctx context.Context, c *composer, o plan.Owner, pos recipe.Pos) (ids, error) {
	got := ids{o.UID, o.GID}
	if !o.Named() && o.GID >= 0 {
		return got, nil
	}
	if o.User != "" {
		fields, err := b.account(ctx, c, "etc/passwd", o.User, 3, pos)
		if err != nil {
			return got, err
		}
		got.uid = number(fields[2])
		if got.gid < 0 && o.Group == "" {
			got.gid = number(fields[3])
		}
	}
	if o.Group != "" {
		fields, err := b.account(ctx, c, "etc/group", o.Group, 2, pos)
		if err != nil {
			return got, err
		}
		got.gid = number(fields[2])
	}
	return got, nil
}

func number(text string) int {
	n, _ := strconv.Atoi(text) // account has checked it
	return n
}

// account finds the line of a name, with at least the field of that number, numbers being numbers.
func (b *builder) account(ctx context.Context, c *composer, file, name string, last int, pos recipe.Pos) ([]string, error) {
	text, err := b.readBelow(ctx, c.view, file)
	if err != nil {
		return nil, err
	}
	var names []string
	for line := range strings.Lines(text) {
		fields := strings.Split(strings.TrimSpace(line), ":")
		if len(fields) <= last || strings.HasPrefix(line, "#") {
			continue
		}
		names = append(names, fields[0])
		if fields[0] != name {
			continue
		}
		for _, f := range fields[2 : last+1] {
			if n, err := strconv.ParseUint(f, 10, 31); err != nil || n >= 1<<31 {
				return nil, b.o.Plan.File.Problem(pos, "/%s has %q for %s, which is no number", file, f, name)
			}
		}
		return fields, nil
	}
	hint := "what lies below this step has no such file: write numbers, such as 1000:1000"
	if len(names) > 0 {
		hint = "it has " + strings.Join(names[:min(len(names), 8)], ", ")
		if near := recipe.Nearest(name, names); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
	}
	return nil, b.o.Plan.File.Problem(pos, "/%s of the image has no %q: %s", file, name, hint)
}

// readBelow reads a small file of a view; one that is not there is empty.
func (b *builder) readBelow(ctx context.Context, view *tree.View, file string) (string, error) {
	real, err := view.Resolve(file, true)
	if err != nil {
		return "", err
	}
	n, exists := view.Lookup(real)
	if !exists || n.Kind != tree.File || n.Size == 0 {
		return "", nil
	}
	if n.Size > maxAccounts {
		return "", fmt.Errorf("/%s of the image has %d bytes, more than %d", file, n.Size, maxAccounts)
	}
	// A layer has no random access, so what was read once is kept under the name of its content.
	note := keyOfText("small file " + string(n.Content))
	if text, found := b.o.Store.Note(note); found && digest.ContentBytes(text) == n.Content {
		return string(text), nil
	}
	if p, needs := n.From.(preparer); needs {
		if err := p.prepare(ctx, []string{n.At}); err != nil {
			return "", err
		}
	}
	f, err := n.From.Open(n.At)
	if err != nil {
		return "", err
	}
	defer f.Close()
	text, err := io.ReadAll(f)
	if err == nil && digest.ContentBytes(text) == n.Content {
		_ = b.o.Store.PutNote(note, text) // it only saves time
	}
	return string(text), err
}
