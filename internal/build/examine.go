package build

import (
	"context"
	"io"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"imbricat/internal/check"
	"imbricat/internal/plan"
)

// Examine gathers what checks look at in an image for one platform. Only with secrets are the files of its layers read.
// Of the options the store and the sink count.
func Examine(ctx context.Context, o Options, from *Resolved, secrets bool) (*check.Subject, error) {
	b, one, err := lookInto(ctx, o, from)
	if err != nil {
		return nil, err
	}
	defer b.close()
	s := &check.Subject{Config: one.config.Config}
	who, err := b.runsAs(ctx, &command{step: &plan.Step{}, view: one.view}, s.Config.User)
	if err != nil {
		return nil, err
	}
	s.UID = who.uid
	for _, l := range one.layers {
		s.Packed += l.Size
	}
	for _, c := range one.contents {
		s.Layers = append(s.Layers, c.entries)
	}
	if secrets {
		s.Secrets, err = one.secrets(ctx)
	}
	return s, err
}

// secrets reads the beginning of every file of every layer: what a layer above hides can be read all the same.
func (one *base) secrets(ctx context.Context) (found []string, err error) {
	var mutex sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, c := range one.contents {
		group.Go(func() error {
			buffer := make([]byte, maxSecret)
			return c.walk(ctx, func(path string, body io.Reader) error {
				n, err := io.ReadFull(body, buffer)
				if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
					return err
				}
				if markOf(path, buffer[:n]) == secretMark {
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
