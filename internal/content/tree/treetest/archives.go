package treetest

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"io"
	"os"

	"github.com/stretchr/testify/require"
)

// Tar makes a tar whose files hold x as often as their heads say.
func Tar(t require.TestingT, headers ...*tar.Header) []byte {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, h := range headers {
		require.NoError(t, w.WriteHeader(h))
		_, err := w.Write(bytes.Repeat([]byte{'x'}, int(h.Size)))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

// Zip makes a zip archive whose files hold their comments.
func Zip(t require.TestingT, files ...*zip.FileHeader) []byte {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, h := range files {
		f, err := w.CreateHeader(h)
		require.NoError(t, err)
		_, err = io.WriteString(f, h.Comment)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

// ZipFile is the head of a file that Zip takes.
func ZipFile(name string, mode os.FileMode, content string) *zip.FileHeader {
	h := &zip.FileHeader{Name: name, Method: zip.Deflate, Comment: content}
	h.SetMode(mode)
	return h
}
