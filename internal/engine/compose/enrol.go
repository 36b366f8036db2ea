package compose

import (
	"bytes"
	"context"
	"fmt"
	"strconv"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/spec/plan"
)

type enrolStep struct{ plan.Enrol }

// Alone reports false: the lists lie below.
func (enrolStep) Alone() bool { return false }

// Lay adds the user and the group to the lists, and makes the home. A user or a group of that name or number must not be there.
func (n enrolStep) Lay(ctx context.Context, c *Composer) error {
	home := n.Home
	if home == "" {
		home = "/"
	}
	number := strconv.Itoa(n.Number)
	for _, list := range []struct{ path, line string }{
		{"/etc/passwd", strings.Join([]string{n.User, "x", number, number, "", home, n.Shell}, ":")},
		{"/etc/group", strings.Join([]string{n.User, "x", number, ""}, ":")},
	} {
		if err := n.enter(ctx, c, list.path, list.line); err != nil {
			return err
		}
	}
	if n.Home == "" || n.Home == "/" {
		return nil
	}
	return c.addFolder(tree.Entry{Path: strings.TrimPrefix(n.Home, "/"), Kind: tree.Folder, Mode: 0o755, UID: n.Number, GID: n.Number}, false)
}

// enter adds a line to a list, which is made where it is not there.
func (n enrolStep) enter(ctx context.Context, c *Composer, path, line string) error {
	real, below, text, err := c.read(ctx, path)
	if err != nil {
		return err
	}
	for other := range bytes.Lines(text) {
		fields := strings.Split(strings.TrimSpace(string(other)), ":")
		switch {
		case len(fields) < 3 || strings.HasPrefix(fields[0], "#"):
		case fields[0] == n.User:
			return c.File.Problem(n.Pos, "%s has %s already, with the number %s", path, n.User, fields[2])
		case fields[2] == strconv.Itoa(n.Number):
			return c.File.Problem(n.Pos, "%s has the number %d already, for %s", path, n.Number, fields[0])
		}
	}
	if len(text) > 0 && text[len(text)-1] != '\n' {
		text = append(text, '\n')
	}
	text = fmt.Appendln(text, line)
	e := tree.Entry{Path: real, Kind: tree.File, Mode: 0o644, Size: int64(len(text)), Content: digest.ContentBytes(text)}
	if below != nil {
		e.Mode, e.UID, e.GID, e.Xattrs = below.Mode, below.UID, below.GID, below.Xattrs
	}
	return c.add(e, filetree.Place{From: filetree.Memory(text)}, nil)
}
