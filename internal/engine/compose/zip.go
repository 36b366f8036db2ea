package compose

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
)

// maxZipEntries bounds what the list at the end of a zip archive may hold.
const maxZipEntries = 1_000_000

// walkZip visits the entries of a zip archive. Its list is at the end, so it is put into a file first.
func walkZip(ctx context.Context, r io.Reader, temporary func() (string, error), visit func(*tree.Entry, io.Reader) error) error {
	folder, err := temporary()
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	f, err := os.Create(path.Join(folder, "archive.zip"))
	if err != nil {
		return err
	}
	defer f.Close()
	size, err := io.Copy(f, r)
	if err != nil {
		return err
	}
	z, err := zip.NewReader(f, size)
	if err != nil {
		return fmt.Errorf("%w: %w", layer.ErrMalformed, layer.Plain(err))
	}
	if len(z.File) > maxZipEntries {
		return fmt.Errorf("%w: more than %d entries", layer.ErrMalformed, maxZipEntries)
	}
	for _, one := range z.File {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := zipEntry(one, visit); err != nil {
			return err
		}
	}
	return nil
}

// Systems that zip archives are made on and that have permissions.
const (
	unixZip   = 3
	darwinZip = 19
)

func zipEntry(one *zip.File, visit func(*tree.Entry, io.Reader) error) error {
	clean, err := tree.CleanPath(strings.ReplaceAll(one.Name, "\\", "/"))
	if err != nil {
		return fmt.Errorf("%w: %w", layer.ErrMalformed, err)
	}
	if one.UncompressedSize64 > 1<<62 {
		return fmt.Errorf("%w: %q says that it has %d bytes", layer.ErrMalformed, one.Name, one.UncompressedSize64)
	}
	mode := one.Mode()
	e := &tree.Entry{Path: clean, Kind: tree.File, Mode: uint32(mode.Perm()), Size: int64(one.UncompressedSize64)}
	if system := one.CreatorVersion >> 8; system != unixZip && system != darwinZip || e.Mode == 0 {
		if e.Mode = 0o644; mode.IsDir() {
			e.Mode = 0o755
		}
	}
	switch {
	case mode.IsDir():
		e.Kind, e.Size = tree.Folder, 0
	case mode&fs.ModeSymlink != 0:
		e.Kind, e.Mode = tree.Symlink, 0o777
	case !mode.IsRegular():
		return fmt.Errorf("%w: %q is neither a file nor a folder nor a link", layer.ErrMalformed, one.Name)
	}
	body, err := one.Open()
	if err != nil {
		return fmt.Errorf("%w: %q: %w", layer.ErrMalformed, one.Name, layer.Plain(err))
	}
	defer body.Close()
	if e.Kind == tree.Symlink {
		target, err := io.ReadAll(io.LimitReader(body, 4097))
		if err != nil || len(target) > 4096 {
			return fmt.Errorf("%w: %q is a link that cannot be read", layer.ErrMalformed, one.Name)
		}
		e.Target, e.Size = string(target), 0
	}
	return visit(e, body)
}
