package standin

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"path/filepath"
	"time"
)

// Files of an authority of certificates that a stand-in made for itself.
const (
	authorityFile    = "authority.pem"
	authorityKeyFile = "authority-key.pem"
)

// TLS returns the configuration for serving HTTPS on this machine, with a certificate of the folder's own authority, which is
// made the first time. authority is the file to trust it by; "" where everything is in memory.
func (s *Server) TLS() (config *tls.Config, authority string, err error) {
	parent, key, err := s.authority()
	if err != nil {
		return nil, "", fmt.Errorf("the stand-in's authority: %w", err)
	}
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, "", err
	}
	template := certificate("localhost", 30*24*time.Hour)
	template.DNSNames = []string{"localhost"}
	template.IPAddresses = []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback}
	template.KeyUsage, template.ExtKeyUsage = x509.KeyUsageDigitalSignature, []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	raw, err := x509.CreateCertificate(rand.Reader, template, parent, &own.PublicKey, key)
	if err != nil {
		return nil, "", err
	}
	if s.o.Dir != "" {
		if authority, err = filepath.Abs(filepath.Join(s.o.Dir, authorityFile)); err != nil {
			return nil, "", err
		}
	}
	return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{raw, parent.Raw}, PrivateKey: own}},
		NextProtos: []string{"h2", "http/1.1"}, MinVersion: tls.VersionTLS12}, authority, nil
}

func certificate(name string, life time.Duration) *x509.Certificate {
	serial, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	return &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: name, Organization: []string{"stand-in"}},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(life), BasicConstraintsValid: true}
}

func (s *Server) authority() (*x509.Certificate, *ecdsa.PrivateKey, error) {
	text, err := s.storage.read(authorityFile)
	if errors.Is(err, fs.ErrNotExist) {
		return s.newAuthority()
	}
	if err != nil {
		return nil, nil, err
	}
	secret, err := s.storage.read(authorityKeyFile)
	if err != nil {
		return nil, nil, err
	}
	block, _ := pem.Decode(text)
	keyBlock, _ := pem.Decode(secret)
	if block == nil || keyBlock == nil {
		return nil, nil, errors.New("its files are damaged; remove them")
	}
	parent, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, nil, err
	}
	key, err := x509.ParseECPrivateKey(keyBlock.Bytes)
	return parent, key, err
}

func (s *Server) newAuthority() (*x509.Certificate, *ecdsa.PrivateKey, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	template := certificate("the stand-in's authority", 10*365*24*time.Hour)
	template.IsCA, template.KeyUsage = true, x509.KeyUsageCertSign
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return nil, nil, err
	}
	secret, err := x509.MarshalECPrivateKey(key)
	if err == nil { // temporary files are made with mode 0600 and keep it
		err = s.storage.write(authorityKeyFile, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: secret}))
	}
	if err == nil {
		err = s.storage.write(authorityFile, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw}))
	}
	if err != nil {
		return nil, nil, err
	}
	parent, err := x509.ParseCertificate(raw)
	return parent, key, err
}
