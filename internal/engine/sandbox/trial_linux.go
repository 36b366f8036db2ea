package sandbox

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// nothing is, for each architecture, the machine's number in an ELF file, its word size in bits, and the instructions of a
// program that exits with status 0.
var nothing = map[string]struct {
	machine uint16
	bits    int
	code    []byte
}{
	"amd64":   {62, 64, []byte{0xb8, 60, 0, 0, 0, 0x31, 0xff, 0x0f, 0x05}},
	"386":     {3, 32, []byte{0xb8, 1, 0, 0, 0, 0x31, 0xdb, 0xcd, 0x80}},
	"arm64":   {183, 64, []byte{0xa8, 0x0b, 0x80, 0xd2, 0, 0, 0x80, 0xd2, 1, 0, 0, 0xd4}},
	"arm":     {40, 32, []byte{1, 0x70, 0xa0, 0xe3, 0, 0, 0xa0, 0xe3, 0, 0, 0, 0xef}},
	"riscv64": {243, 64, []byte{0x93, 8, 0xd0, 5, 0x13, 5, 0, 0, 0x73, 0, 0, 0}},
	"loong64": {258, 64, []byte{0x0b, 0x74, 0x81, 0x03, 0x04, 0x00, 0x80, 0x03, 0x00, 0x00, 0x2b, 0x00}},
}

// tinyProgram returns the smallest program for an architecture, as an ELF file with one segment.
func tinyProgram(architecture string) ([]byte, bool) {
	n, known := nothing[architecture]
	if !known {
		return nil, false
	}
	const base = 0x10000
	head, segment := 64, 56
	if n.bits == 32 {
		head, segment = 52, 32
	}
	start := head + segment
	size := start + len(n.code)
	var out bytes.Buffer
	put := func(values ...any) {
		for _, v := range values {
			_ = binary.Write(&out, binary.LittleEndian, v) // to memory
		}
	}
	class := byte(n.bits / 32)
	put([]byte{0x7f, 'E', 'L', 'F', class, 1, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0}, uint16(2), n.machine, uint32(1))
	flags := uint32(0)
	if architecture == "arm" {
		flags = 0x05000000 // the calling convention that its kernels know
	}
	if n.bits == 64 {
		put(uint64(base+start), uint64(head), uint64(0), flags, uint16(head), uint16(segment), uint16(1), uint16(0), uint16(0), uint16(0))
		put(uint32(1), uint32(5), uint64(0), uint64(base), uint64(base), uint64(size), uint64(size), uint64(0x1000))
	} else {
		put(uint32(base+start), uint32(head), uint32(0), flags, uint16(head), uint16(segment), uint16(1), uint16(0), uint16(0), uint16(0))
		put(uint32(1), uint32(0), uint32(base), uint32(base), uint32(size), uint32(size), uint32(5), uint32(0x1000))
	}
	put(n.code)
	return out.Bytes(), true
}

// Trial runs the smallest program there is for an architecture, in an empty folder of the caller's. It finds out for real
// whether commands can be run. Where overlays are refused the box goes over to copies, and the second result says why.
func (b *Box) Trial(ctx context.Context, dir, architecture string) (withoutOverlay error, err error) {
	err = b.try(ctx, filepath.Join(dir, "1"), architecture, true)
	var unable *UnableError
	if errors.As(err, &unable) && unable.Missing == "overlay" && b.overlay {
		b.overlay = false
		return err, b.try(ctx, filepath.Join(dir, "2"), architecture, true)
	}
	return nil, err
}

func (b *Box) try(ctx context.Context, work, architecture string, network bool) error {
	program, known := tinyProgram(architecture)
	if !known {
		return &UnableError{Missing: "format", What: "commands for " + architecture + " cannot be tried on this machine"}
	}
	if err := os.Mkdir(work, 0o755); err != nil {
		return err
	}
	defer b.Remove(work)
	view := []tree.Entry{{Kind: tree.Folder, Mode: 0o755},
		{Path: "trial", Kind: tree.File, Mode: 0o755, Size: int64(len(program)), Content: digest.ContentBytes(program)}}
	feed := func(put func(int, int64, io.Reader) error) error { return put(1, -1, bytes.NewReader(program)) }
	s := &Spec{Work: work, Top: view[0], Args: []string{"/trial"}, Dir: "/", Network: network, Observe: true}
	if b.overlay {
		base := filepath.Join(work, "base")
		if err := b.Lay(ctx, base, view, feed); err != nil {
			return err
		}
		s.Lower = []string{base}
	}
	if err := b.Prepare(ctx, s, view, feed); err != nil {
		return err
	}
	status, err := b.Run(ctx, s)
	if err == nil && architecture == runtime.GOARCH {
		b.trial = status.Observed
	}
	if err == nil && status.Code != 0 {
		err = &UnableError{Missing: "format", What: fmt.Sprintf("a trial program for %s ended with status %d", architecture, status.Code)}
	}
	return err
}
