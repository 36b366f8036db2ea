package share

import (
	"crypto/ed25519"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/ground/digest"
)

// Annotations of a pack that is signed.
const (
	signerKey    = "dev.imbricat.signer"    // the public key, as its standard form (RFC 8410) in base64
	signatureKey = "dev.imbricat.signature" // over what signed gives, in base64
)

// signed is what a signature is over. The digest names the pack with all records in it, and these name their layers.
func signed(pack digest.Digest) []byte { return []byte("imbricat pack 1\n" + string(pack) + "\n") }

// Trust are the keys whose entries of a cache are believed. Of nil all entries are.
type Trust []ed25519.PublicKey

// believes reports whether a pack is signed by one of the keys.
func (t Trust) believes(pack v1.Descriptor) bool {
	if t == nil {
		return true
	}
	signature, err := base64.StdEncoding.DecodeString(pack.Annotations[signatureKey])
	if err != nil || len(signature) != ed25519.SignatureSize {
		return false
	}
	for _, key := range t {
		if ed25519.Verify(key, signed(pack.Digest), signature) {
			return true
		}
	}
	return false
}

// ParseTrust reads public keys, each the text of a PEM block or the base64 inside of one. Without any there is an error: a
// place that nobody may write to is a mistake.
func ParseTrust(texts []string) (Trust, error) {
	if len(texts) == 0 {
		return nil, errors.New("there is no key in the list")
	}
	trust := Trust{}
	for _, text := range texts {
		raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
		if block, _ := pem.Decode([]byte(text)); block != nil {
			raw, err = block.Bytes, nil
		}
		var any any
		if err == nil {
			any, err = x509.ParsePKIXPublicKey(raw)
		}
		key, is := any.(ed25519.PublicKey)
		if err != nil || !is {
			return nil, fmt.Errorf("%.20q is not a public ed25519 key in base64 or PEM", text)
		}
		trust = append(trust, key)
	}
	return trust, nil
}

// Signer signs what is shared.
type Signer struct{ key ed25519.PrivateKey }

// ParseSigner reads a private key, the text of a PEM block (PKCS #8) or the base64 inside of one. Errors do not repeat it.
func ParseSigner(text string) (*Signer, error) {
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	if block, _ := pem.Decode([]byte(text)); block != nil {
		raw, err = block.Bytes, nil
	}
	var any any
	if err == nil {
		any, err = x509.ParsePKCS8PrivateKey(raw)
	}
	key, is := any.(ed25519.PrivateKey)
	if err != nil || !is {
		return nil, errors.New("it is not a private ed25519 key in base64 or PEM (PKCS #8)")
	}
	return &Signer{key}, nil
}

// sign signs a pack; without a signer it stays as it is.
func (s *Signer) sign(pack *v1.Descriptor) {
	if s == nil {
		return
	}
	public, err := x509.MarshalPKIXPublicKey(s.key.Public())
	if err != nil {
		panic(err) // of an ed25519 key there is always one
	}
	pack.Annotations[signerKey] = base64.StdEncoding.EncodeToString(public)
	pack.Annotations[signatureKey] = base64.StdEncoding.EncodeToString(ed25519.Sign(s.key, signed(pack.Digest)))
}

// Believe limits a cache to entries that are signed by some keys, and has what is written signed by one. It returns the
// cache.
func (c *Cache) Believe(trust Trust, signer *Signer) *Cache {
	c.trust, c.signer = trust, signer
	return c
}
