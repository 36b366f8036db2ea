package transfer

import (
	"bytes"
	"context"
	"io"
	"sync"

	"golang.org/x/sync/errgroup"

	"imbricat/internal/ground/digest"
)

// What is small takes the time of an answer, however fast the line is, so more of it is asked for at once.
const (
	smallBlob  = 256 << 10 // bytes
	inFlight   = 12        // small blobs and questions at a time, where nobody chose otherwise
	mostBehind = 64        // documents that are read before they are looked at
)

// ahead holds small blobs and documents that were read before they are needed.
type ahead struct {
	mutex sync.Mutex
	held  map[digest.Digest][]byte
	there map[digest.Digest]bool // documents that the destination was found to have, or not
}

// open opens what is held, and lets go of it.
func (a *ahead) open(desc digest.Descriptor) (io.ReadCloser, bool) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	body, is := a.held[desc.Digest]
	delete(a.held, desc.Digest)
	return io.NopCloser(bytes.NewReader(body)), is && int64(len(body)) == desc.Size
}

// has returns what was found out about a document, once.
func (a *ahead) has(desc digest.Descriptor) (there, known bool) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	there, known = a.there[desc.Digest]
	delete(a.there, desc.Digest)
	return there, known
}

// found notes whether the destination has a document.
func (a *ahead) found(desc digest.Descriptor, there bool) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if a.there == nil {
		a.there = map[digest.Digest]bool{}
	}
	a.there[desc.Digest] = there
}

// read holds a small blob of the source. Where it cannot be read nothing is held: whoever needs it tries again, and tells why.
func (c *copier) read(ctx context.Context, desc digest.Descriptor) {
	if desc.Size > smallBlob {
		return
	}
	in, err := c.from.Fetch(ctx, desc)
	if err != nil {
		return
	}
	defer in.Close()
	if body, err := digest.ReadAll(in, desc, smallBlob); err == nil {
		c.ahead.mutex.Lock()
		defer c.ahead.mutex.Unlock()
		if c.ahead.held == nil {
			c.ahead.held = map[digest.Digest][]byte{}
		}
		c.ahead.held[desc.Digest] = body
	}
}

// readDocuments reads documents that are needed next, and asks whether the destination has them.
func (c *copier) readDocuments(ctx context.Context, list []digest.Descriptor) {
	var group errgroup.Group
	group.SetLimit(c.inFlight())
	for _, desc := range list {
		if !document(desc) {
			continue
		}
		group.Go(func() error {
			there := false
			if c.to.Whole() {
				var err error
				if there, err = c.to.Has(ctx, desc); err != nil {
					return nil // collect asks again
				}
				c.ahead.found(desc, there)
			}
			if _, edited := c.edited[desc.Digest]; !edited {
				c.read(ctx, desc)
			}
			return nil
		})
	}
	_ = group.Wait()
}

// moveInOrder moves blobs one after the other, as an archive takes them, and reads small ones before it is their turn.
func (c *copier) moveInOrder(ctx context.Context, move func(ctx context.Context, i int) error, there []bool) error {
	ctx, cancel := context.WithCancel(ctx)
	room := make(chan struct{}, c.inFlight())
	ready := make([]chan struct{}, len(c.blobs))
	for i := range ready {
		ready[i] = make(chan struct{})
	}
	var reading sync.WaitGroup
	defer reading.Wait()
	defer cancel()
	reading.Go(func() {
		for i, desc := range c.blobs {
			if there[i] || desc.Size > smallBlob {
				close(ready[i])
				continue
			}
			select {
			case room <- struct{}{}:
			case <-ctx.Done():
				return
			}
			reading.Go(func() {
				c.read(ctx, desc)
				close(ready[i])
			})
		}
	})
	for i, desc := range c.blobs {
		select {
		case <-ready[i]:
		case <-ctx.Done():
			return ctx.Err()
		}
		if err := move(ctx, i); err != nil {
			return err
		}
		if !there[i] && desc.Size <= smallBlob {
			<-room
		}
	}
	return nil
}
