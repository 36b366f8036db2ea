package share

import (
	"context"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/digest"
)

// keys makes a pair in the forms that tools write.
func keys(t *testing.T) (private, public string) {
	pub, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	private = string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))
	raw, err = x509.MarshalPKIXPublicKey(pub)
	require.NoError(t, err)
	return private, string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: raw}))
}

// TestTrust: who limits a cache to signers sees what these wrote and nothing else, whoever else writes to it; who does not
// sees all.
func TestTrust(t *testing.T) {
	ctx := context.Background()
	private, public := keys(t)
	otherPrivate, otherPublic := keys(t)
	signer, err := ParseSigner(private)
	require.NoError(t, err)
	stranger, err := ParseSigner(otherPrivate)
	require.NoError(t, err)
	block, _ := pem.Decode([]byte(public))
	trust, err := ParseTrust([]string{base64.StdEncoding.EncodeToString(block.Bytes)})
	require.NoError(t, err)
	both, err := ParseTrust([]string{otherPublic, public})
	require.NoError(t, err)

	for name, backend := range backends(t) {
		mine := newStore(t)
		work := finish(t, mine, "gauge", "3.42")
		sees := func(trust Trust) bool {
			yours := newStore(t)
			open(t, backend(), yours, nil).Believe(trust, nil).Run(ctx, work.Runs[0].Key)
			return len(yours.Runs(work.Runs[0].Key)) == 1
		}
		require.NoError(t, open(t, backend(), mine, nil).Publish(ctx, work))
		require.True(t, sees(nil), name)
		require.False(t, sees(trust), "nobody signed it")
		require.NoError(t, open(t, backend(), mine, nil).Believe(trust, stranger).Publish(ctx, work))
		require.False(t, sees(trust), "somebody else did")
		require.NoError(t, open(t, backend(), mine, nil).Believe(trust, signer).Publish(ctx, work))
		require.True(t, sees(trust), "that others have written the same is not a reason not to")
		require.True(t, sees(both))

		// A signature is of one pack: on another, or with a bit less, it is none.
		body, err := backend().Manifest(ctx)
		require.NoError(t, err)
		m, err := decodeManifest(body)
		require.NoError(t, err)
		believed := 0
		for _, l := range m.Layers {
			if l.MediaType != packType || !trust.believes(l) {
				continue
			}
			believed++
			forged := v1.Descriptor{Digest: digest.FromBytes([]byte("forged")), Annotations: l.Annotations}
			require.False(t, trust.believes(forged))
			l.Annotations = map[string]string{signerKey: l.Annotations[signerKey], signatureKey: l.Annotations[signatureKey][4:]}
			require.False(t, trust.believes(l))
		}
		require.Equal(t, 1, believed)
	}

	for _, bad := range [][]string{{}, {""}, {"tide"}, {private}, {public[:40]}} {
		_, err := ParseTrust(bad)
		require.Error(t, err, bad)
	}
	for _, bad := range []string{"", "tide", public} {
		_, err := ParseSigner(bad)
		require.Error(t, err)
		require.NotContains(t, err.Error(), "tide")
	}
}
