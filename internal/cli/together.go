package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"sync"

	"imbricat/internal/content/store"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/flow"
	"imbricat/internal/flow/background"
	"imbricat/internal/flow/network"
)

// join makes what is tried a member of its network, under a name, and has its relays listen. Its packets are carried until leave is called.
func (s *session) join(ctx context.Context, st *store.Store, t *trial, name string) (leave func(), err error) {
	if name != "" && !background.ValidName(name) {
		return nil, flow.WrongUse(&background.NameError{Name: name})
	}
	member, err := network.Join(ctx, background.Network(st, t.together), name)
	var taken *network.NameTakenError
	if errors.As(err, &taken) {
		return nil, flow.Usagef("the network %s has a %q already: give it another --name", t.together, name)
	}
	if err != nil {
		return nil, err
	}
	door, err := sandbox.NewDoor(member.Prefix())
	if err != nil {
		member.Leave()
		return nil, err
	}
	inner, cancel := context.WithCancel(context.WithoutCancel(ctx))
	var all sync.WaitGroup
	leave = func() {
		cancel()
		door.Close()
		all.Wait()
		member.Leave()
	}
	for i := range t.relays {
		r := &t.relays[i]
		listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", r.At)
		if err != nil {
			leave()
			return nil, fmt.Errorf("--relay: %w", err)
		}
		r.At = listener.Addr().String()
		all.Go(func() {
			network.Relay(inner, listener, func() (net.Conn, error) { return door.Dial(r.Port) })
		})
	}
	all.Go(func() {
		device, err := door.Device(inner)
		if err != nil {
			return // the sandbox says why it was not built
		}
		if err := member.Carry(inner, device); err != nil {
			slog.Warn("the network of a command ended", "network", t.together, "name", name, "error", err)
		}
	})
	t.do.Door, t.do.Nameserver = door, network.Nameserver()
	return leave, nil
}
