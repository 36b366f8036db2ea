package bases_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/flow/flowtest"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/registry"
	"imbricat/internal/spec/lock"
)

// TestResolve: a tag is taken from the lock where that has it, and is doubtful else; a registry that is away is replaced by what was found
// last, and never by a guess.
func TestResolve(t *testing.T) {
	r := flowtest.NewRegistry(t)
	built := r.PutBase(t, "one", "")
	amd64, err := platform.Parse("linux/amd64")
	require.NoError(t, err)
	name := r.Host + "/bases/tide:1"

	// find resolves in a new store, or in one that has been used.
	other := flowtest.NewProject(t, r)
	other.Write(t, "imbricat.yaml", "imbricat: 1\nimages: {tide: {base: none, platforms: [linux/amd64], steps: [{write: {to: /text, text: x}}]}}\n")
	find := func(held *lock.Lock, ref string) (root digest.Digest, warnings []string, err error) {
		b, err := other.Workspace(t, nil).Bases(held, event.Func(func(e event.Event) {
			if w, is := e.(event.Warning); is {
				warnings = append(warnings, w.Code)
			}
		}))
		require.NoError(t, err)
		for range 2 { // each platform asks, and it is told once
			found, err := b.Resolve(t.Context(), parse(t, ref), amd64)
			if err != nil {
				return "", warnings, err
			}
			root = found.Root.Digest
		}
		return root, warnings, nil
	}
	got, warnings, err := find(nil, name)
	require.NoError(t, err)
	require.Equal(t, built, got)
	require.Equal(t, []string{event.MovingBase}, warnings)

	before, err := other.Workspace(t, nil).Bases(nil, event.Discard)
	require.NoError(t, err)
	_, err = before.Resolve(t.Context(), parse(t, name), amd64)
	require.NoError(t, err)
	second := r.PutBase(t, "two", "")
	require.NotEqual(t, built, second)
	meanwhile, err := before.Resolve(t.Context(), parse(t, name), amd64)
	require.NoError(t, err)
	require.Equal(t, built, meanwhile.Root.Digest, "a tag that moves during a build gives all platforms the same")
	held := &lock.Lock{Bases: map[string]digest.Digest{name: built}}
	got, warnings, err = find(held, name)
	require.NoError(t, err)
	require.Equal(t, built, got, "the lock has it, whatever the tag stands on now")
	require.Empty(t, warnings)
	got, _, err = find(&lock.Lock{}, name)
	require.NoError(t, err)
	require.Equal(t, second, got)
	_, _, err = find(&lock.Lock{Bases: map[string]digest.Digest{name: digest.FromBytes([]byte("gone"))}}, name)
	require.ErrorContains(t, err, "names a digest that the registry does not have any more")
	_, _, err = find(nil, r.Host+"/bases/nothing:1")
	require.Error(t, err)

	// The registry is away: what the tag stood for last serves, with a warning; of another tag nothing is known.
	away := registry.New(registry.Options{Wait: 1, Patience: 1})
	down := other.Workspace(t, nil)
	down.Places.Client = away
	warnings = nil
	b, err := down.Bases(nil, event.Func(func(e event.Event) { warnings = append(warnings, e.(event.Warning).Code) }))
	require.NoError(t, err)
	r.Stop()
	found, err := b.Resolve(t.Context(), parse(t, name), amd64)
	require.NoError(t, err)
	require.Equal(t, second, found.Root.Digest)
	require.Equal(t, []string{event.MovingBase, event.Offline}, warnings)
	_, err = b.Resolve(t.Context(), parse(t, r.Host+"/bases/tide:2"), amd64)
	require.ErrorIs(t, err, registry.ErrUnreachable)
	found, err = b.Resolve(t.Context(), parse(t, r.Host+"/bases/tide@"+string(built)), amd64)
	require.NoError(t, err)
	require.Equal(t, built, found.Root.Digest, "a digest in the store asks nobody")
}

func parse(t *testing.T, text string) reference.Reference {
	ref, err := reference.Parse(text)
	require.NoError(t, err)
	return ref
}
