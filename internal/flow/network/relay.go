package network

import (
	"context"
	"errors"
	"io"
	"net"
	"sync"
	"time"
)

// Relay passes on what comes in at a listener, to connections that dial makes, until the context ends. It closes the listener, and returns
// when no connection is left.
func Relay(ctx context.Context, listener net.Listener, dial func() (net.Conn, error)) {
	var all sync.WaitGroup
	defer all.Wait()
	stop := context.AfterFunc(ctx, func() { listener.Close() })
	defer stop()
	for {
		conn, err := listener.Accept()
		if err != nil {
			if ctx.Err() == nil && !errors.Is(err, net.ErrClosed) {
				time.Sleep(10 * time.Millisecond) // a connection is gone already, or there are too many at once
				continue
			}
			return
		}
		all.Go(func() {
			defer conn.Close()
			inside, err := dial()
			if err != nil {
				return // nothing listens there yet: whoever asks sees the connection end
			}
			defer inside.Close()
			done := context.AfterFunc(ctx, func() {
				conn.Close()
				inside.Close()
			})
			defer done()
			both(conn, inside)
		})
	}
}

// both passes bytes on in both directions, each until its end.
func both(a, b net.Conn) {
	var ways sync.WaitGroup
	for _, way := range [][2]net.Conn{{a, b}, {b, a}} {
		ways.Go(func() {
			_, _ = io.Copy(way[1], way[0]) // an end is an end
			if half, is := way[1].(interface{ CloseWrite() error }); is {
				_ = half.CloseWrite()
			}
		})
	}
	ways.Wait()
}
