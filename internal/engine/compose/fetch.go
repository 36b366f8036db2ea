package compose

import (
	"bytes"
	"context"
	"io"
	"path"
	"strings"

	"imbricat/internal/content/census"
	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/spec/plan"
)

type fetchStep struct{ plan.Fetch }

// Alone implements Kind.
func (fetchStep) Alone() bool { return true }

// Lay lays a file from an address down.
func (do fetchStep) Lay(ctx context.Context, c *Composer) error {
	owner, err := c.owner(ctx, do.Owner, do.OwnerPos)
	if err != nil {
		return err
	}
	got := c.inputs.Files[do.SHA256]
	content, err := c.contentOf(ctx, nameIn(do.Address), do.SHA256, got)
	if err != nil {
		return err
	}
	to := inner(do.To)
	if do.To.Folder {
		to = tree.Join(to, nameIn(do.Address))
	}
	return c.add(tree.Entry{Path: to, Kind: tree.File, Mode: do.Mode.Apply(0o644, false), UID: owner.UID, GID: owner.GID,
		Size: got.desc.Size, Content: content}, filetree.Place{From: got}, nil)
}

// contentOf returns the content's name of a fetched file, from the store's notes where it was read before.
func (c *Composer) contentOf(ctx context.Context, name, sum string, got *Fetched) (digest.Content, error) {
	question := keyOf("imbricat content of sha256 1 " + sum)
	if note, found := c.Store.Note(question); found {
		content, m, _ := strings.Cut(string(note), " ")
		if content := digest.Content(content); content.Valid() {
			c.Marks.Note(content, census.Class(m))
			return content, nil
		}
	}
	f, err := got.open(ctx)
	if err != nil {
		return "", err
	}
	defer f.Close()
	hash, start := digest.NewContent(), bytes.Buffer{}
	whole := digest.WithContext(ctx, f)
	if _, err := io.Copy(hash, io.TeeReader(io.LimitReader(whole, census.MaxSecret), &start)); err != nil {
		return "", err
	}
	if _, err := io.Copy(hash, whole); err != nil {
		return "", err
	}
	content, m := digest.ContentOf(hash), census.ClassOf(name, start.Bytes())
	c.Marks.Note(content, m)
	_ = c.Store.PutNote(question, []byte(string(content)+" "+string(m)))
	return content, nil
}

// nameIn is the last part of an address's path.
func nameIn(address string) string {
	for i, c := range address {
		if c == '?' || c == '#' {
			address = address[:i]
			break
		}
	}
	if name := path.Base(address); name != "/" && name != "." {
		return name
	}
	return "index"
}
