package files

import (
	"bytes"
	"encoding/pem"
	"fmt"
	"io"
)

// maxCertificates bounds a file of certificates, in bytes.
const maxCertificates = 4 << 20

// Certificates returns the certificates of a PEM text and nothing else that it holds, such as a key.
func Certificates(from io.Reader) ([]byte, error) {
	text, err := io.ReadAll(io.LimitReader(from, maxCertificates+1))
	if err != nil {
		return nil, err
	}
	if len(text) > maxCertificates {
		return nil, fmt.Errorf("it has more than %d bytes", maxCertificates)
	}
	var out []byte
	for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(bytes.TrimSpace(rest)) {
		if block.Type == "CERTIFICATE" {
			out = append(out, pem.EncodeToMemory(&pem.Block{Type: block.Type, Bytes: block.Bytes})...)
		}
	}
	if out == nil {
		return nil, fmt.Errorf("it holds no certificate")
	}
	return out, nil
}
