package reference

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const someDigest = "sha256:0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef"

func TestParse(t *testing.T) {
	for text, want := range map[string]Reference{
		"registry.tideline.example/tides/gauge:1.4.0": {Kind: Registry, Host: "registry.tideline.example", Repository: "tides/gauge", Tag: "1.4.0"},
		"127.0.0.1:5000/gauge@" + someDigest:          {Kind: Registry, Host: "127.0.0.1:5000", Repository: "gauge", Digest: someDigest},
		"localhost/a/b__c/d-e:x@" + someDigest:        {Kind: Registry, Host: "localhost", Repository: "a/b__c/d-e", Tag: "x", Digest: someDigest},
		"[::1]:5000/gauge:1":                          {Kind: Registry, Host: "[::1]:5000", Repository: "gauge", Tag: "1"},
		"gauge":                                       {Kind: Store, Name: "gauge"},
		"gauge:1.4.0":                                 {Kind: Store, Name: "gauge", Tag: "1.4.0"},
		someDigest:                                    {Kind: Store, Digest: someDigest},
		"./out.d/x":                                   {Kind: Layout, Path: "./out.d/x"},
		"./out":                                       {Kind: Layout, Path: "./out"},
		"../out#gauge:1":                              {Kind: Layout, Path: "../out", Member: "gauge:1"},
		"/srv/out.tar#gauge":                          {Kind: Archive, Path: "/srv/out.tar", Member: "gauge"},
		"gauge:" + strings.Repeat("x", 128):           {Kind: Store, Name: "gauge", Tag: strings.Repeat("x", 128)},
		".":                                           {Kind: Layout, Path: "."},
	} {
		got, err := Parse(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got, text)
		require.Equal(t, text, got.String())
	}
	for text, want := range map[string]string{
		"":                "is empty",
		"tides/gauge:1":   "names no registry: write its host first",
		"h.example/Gauge": `"Gauge" is not a repository`,
		"h.example/a//b":  "is not a repository",
		"h.example/../b":  "is not a repository",
		"h.example/g:":    "the tag after ':' is empty",
		"h.example/g:-x":  `"-x" is not a tag`,
		"h.example/g:" + strings.Repeat("x", 129):    "is not a tag",
		"h.example/g@sha256:12":                      "is not a digest",
		"h.example/g@md5:" + strings.Repeat("0", 32): "is not a digest",
		"ga uge":         "is not an image name",
		"gauge:":         "the tag after ':' is empty",
		"-gauge":         "is not an image name",
		"h_st.example/g": "is not a registry host",
	} {
		_, err := Parse(text)
		require.ErrorContains(t, err, want, text)
	}
	prefix, _ := Parse("0123ab")
	_, is := prefix.DigestPrefix()
	require.True(t, is)
	for _, no := range []string{"0123a", "0123ag", "0123ab:1"} {
		ref, err := Parse(no)
		require.NoError(t, err)
		_, is := ref.DigestPrefix()
		require.False(t, is, no)
	}
}

// FuzzParse: what is accepted prints as itself and never names a path outside what it says.
func FuzzParse(f *testing.F) {
	f.Add("registry.tideline.example/tides/gauge:1.4.0@" + someDigest)
	f.Add("../a.tar#b")
	f.Fuzz(func(t *testing.T, text string) {
		ref, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(ref.String())
		require.NoError(t, err)
		require.Equal(t, ref, again)
		if ref.Kind == Registry {
			require.NotContains(t, ref.Repository, "..")
			require.NotContains(t, ref.Tag, "/")
		}
	})
}
