package digest

import (
	"context"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
)

// TestVerify: exactly the promised bytes pass, whatever the sizes of the reads.
func TestVerify(t *testing.T) {
	const text = "3.42 m above datum"
	right := Descriptor{Digest: FromBytes([]byte(text)), Size: int64(len(text))}
	for name, c := range map[string]struct {
		content string
		desc    Descriptor
		fails   string
	}{
		"right":       {text, right, ""},
		"too short":   {text[:5], right, "13 of 18 bytes are missing"},
		"too long":    {text + "!", right, "more than the 18 bytes announced"},
		"other bytes": {strings.ToUpper(text), right, "the bytes have another digest"},
		"empty":       {"", Descriptor{Digest: FromBytes(nil)}, ""},
		"no digest":   {text, Descriptor{Digest: "sha256:12", Size: 18}, "invalid checksum digest length"},
	} {
		for _, slow := range []func(io.Reader) io.Reader{iotest.OneByteReader, iotest.DataErrReader, func(r io.Reader) io.Reader { return r }} {
			got, err := io.ReadAll(Verify(slow(strings.NewReader(c.content)), c.desc))
			if c.fails != "" {
				require.ErrorContains(t, err, c.fails, name)
				if name == "other bytes" {
					require.Less(t, len(got), len(text), "wrong content is never given whole")
				}
				continue
			}
			require.NoError(t, err, name)
			require.Equal(t, c.content, string(got))
		}
	}
	_, err := ReadAll(strings.NewReader(text), right, 10)
	require.ErrorContains(t, err, "more than the 10")
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = io.ReadAll(WithContext(ctx, strings.NewReader(text)))
	require.ErrorIs(t, err, context.Canceled)
}

// TestVerifiedOnce: what verifies by itself is not hashed twice, unless it is of something else or was begun to be read.
func TestVerifiedOnce(t *testing.T) {
	text := "high water 3.42 m"
	want := Descriptor{Digest: FromBytes([]byte(text)), Size: int64(len(text))}
	once := Verify(strings.NewReader(text), want)
	require.Same(t, once, Verify(once, want))
	for _, other := range []Descriptor{{Digest: want.Digest, Size: want.Size - 1}, {Digest: FromBytes(nil), Size: want.Size}} {
		_, err := io.ReadAll(Verify(Verify(strings.NewReader(text), want), other))
		require.ErrorIs(t, err, ErrMismatch)
	}
	_, err := once.Read(make([]byte, 3))
	require.NoError(t, err)
	require.NotSame(t, once, Verify(once, want))
}
