// Package layer turns a file tree into a deterministic tar with parallel compression, and reads layers of any origin.
//
// The same entries and contents give the same bytes on every machine with any number of cores. Times are given by
// constants and never asked for; nothing here knows images or stores.
package layer

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/digest"
	"imbricat/internal/tree"
)

// Epoch is the one time that every file of a layer has.
var Epoch = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

// Format names everything that decides a layer's bytes besides its tree; it is part of every layer's key. Change it
// whenever the bytes may change: the packer, the compression library or its level, the size of chunks.
const Format = "imbricat-layer-1 tar+gzip level=6 chunk=1MiB"

// MediaType is that of the layers that Pack makes.
const MediaType = v1.MediaTypeImageLayerGzip

// Packed describes a layer that was made.
type Packed struct {
	Descriptor digest.Descriptor // of the compressed blob
	DiffID     digest.DiffID
	Unpacked   int64 // bytes of the tar
}

// ErrChanged is wrapped when a file is not what it was when its tree was made.
var ErrChanged = errors.New("changed while it was read")

// Pack writes the entries (sorted by path, parents before children) as a compressed tar to w. Contents come from open,
// which is called once for every file, in order.
func Pack(ctx context.Context, w io.Writer, entries []tree.Entry, open func(*tree.Entry) (io.ReadCloser, error)) (Packed, error) {
	c := newCompressor(w)
	err := writeTar(ctx, c, entries, open)
	packed, closeErr := c.Close()
	if err == nil {
		err = closeErr
	}
	return packed, err
}

// boundaries is a writer that may cut its stream where an entry begins.
type boundaries interface {
	io.Writer
	Boundary() error
}

func writeTar(ctx context.Context, w boundaries, entries []tree.Entry, open func(*tree.Entry) (io.ReadCloser, error)) error {
	t := tar.NewWriter(w)
	buffer := make([]byte, 128<<10)
	for i := range entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := t.Flush(); err != nil {
			return err
		}
		if err := w.Boundary(); err != nil {
			return err
		}
		e := &entries[i]
		if err := t.WriteHeader(header(e)); err != nil {
			return fmt.Errorf("packing /%s: %w", e.Path, err)
		}
		if e.Kind != tree.File {
			continue
		}
		if err := writeFile(t, e, open, buffer); err != nil {
			return err
		}
	}
	return t.Close()
}

func writeFile(t *tar.Writer, e *tree.Entry, open func(*tree.Entry) (io.ReadCloser, error), buffer []byte) error {
	if e.Size == 0 {
		return nil
	}
	body, err := open(e)
	if err != nil {
		return fmt.Errorf("packing /%s: %w", e.Path, err)
	}
	n, err := io.CopyBuffer(struct{ io.Writer }{t}, io.LimitReader(body, e.Size), buffer)
	// Closing tells whether the file changed meanwhile.
	if closeErr := body.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return fmt.Errorf("packing /%s: %w", e.Path, err)
	}
	if n != e.Size {
		return fmt.Errorf("packing /%s: it %w: %d bytes instead of %d", e.Path, ErrChanged, n, e.Size)
	}
	return nil
}

const (
	whiteoutPrefix = ".wh."
	opaqueName     = ".wh..wh..opq"
	xattrPrefix    = "SCHILY.xattr."
)

var typeflags = map[tree.Kind]byte{
	tree.File: tar.TypeReg, tree.Folder: tar.TypeDir, tree.Symlink: tar.TypeSymlink, tree.Hardlink: tar.TypeLink,
	tree.CharDevice: tar.TypeChar, tree.BlockDevice: tar.TypeBlock, tree.Fifo: tar.TypeFifo,
	tree.Whiteout: tar.TypeReg, tree.Opaque: tar.TypeReg,
}

func header(e *tree.Entry) *tar.Header {
	h := &tar.Header{
		Typeflag: typeflags[e.Kind], Name: e.Path, Mode: int64(e.Mode), Uid: e.UID, Gid: e.GID,
		Size: e.Size, ModTime: Epoch, Linkname: e.Target, Devmajor: e.Major, Devminor: e.Minor,
	}
	switch e.Kind {
	case tree.Folder:
		h.Name += "/"
	case tree.Whiteout:
		h.Name, h.Mode = tree.Join(tree.Parent(e.Path), whiteoutPrefix+path.Base(e.Path)), 0
	case tree.Opaque:
		h.Name, h.Mode = tree.Join(e.Path, opaqueName), 0
	}
	for name, value := range e.Xattrs {
		if h.PAXRecords == nil {
			h.PAXRecords = map[string]string{}
		}
		h.PAXRecords[xattrPrefix+name] = value
	}
	return h
}
