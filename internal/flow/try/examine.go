package try

import (
	"context"
	"io"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"imbricat/internal/content/census"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/engine/check"
)

// Examine gathers what checks look at in an image for one platform. Only with secrets are the files of its layers read.
func Examine(ctx context.Context, o Options, from *baseimage.Found, secrets bool) (*check.Subject, error) {
	one, err := o.open(ctx, from)
	if err != nil {
		return nil, err
	}
	defer one.scratch.Close()
	s := &check.Subject{Config: one.Config.Config}
	who, err := one.user(ctx, s.Config.User)
	if err != nil {
		return nil, err
	}
	s.UID = who.UID
	for _, l := range one.Layers {
		s.Packed += l.Size
	}
	for _, c := range one.Contents {
		s.Layers = append(s.Layers, c.Entries)
	}
	if secrets {
		s.Secrets, err = one.secrets(ctx)
	}
	return s, err
}

// secrets reads the beginning of every file of every layer: what a layer above hides can be read all the same.
func (one *opened) secrets(ctx context.Context) (found []string, err error) {
	var mutex sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, c := range one.Contents {
		group.Go(func() error {
			buffer := make([]byte, census.MaxSecret)
			return c.Walk(ctx, func(path string, body io.Reader) error {
				n, err := io.ReadFull(body, buffer)
				if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
					return err
				}
				if census.ClassOf(path, buffer[:n]) == census.Secret {
					mutex.Lock()
					found = append(found, path)
					mutex.Unlock()
				}
				return nil
			})
		})
	}
	err = group.Wait()
	slices.Sort(found)
	return slices.Compact(found), err
}
