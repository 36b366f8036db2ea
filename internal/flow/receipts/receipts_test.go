package receipts_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/flow"
	"imbricat/internal/flow/flowtest"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/redact"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
)

// TestRecorder: however a run ends its receipt tells so, without secrets, in the file that was asked for.
func TestRecorder(t *testing.T) {
	dir := t.TempDir()
	var secrets redact.Redactor
	secrets.Add([]byte("sesame-42"))
	ended, end := context.WithCancel(t.Context())
	end()
	failure := errors.New("it says sesame-42\n")
	for name, c := range map[string]struct {
		ctx     context.Context
		outcome string
		err     error
		want    string
		stopped *receipt.Stop
	}{
		"done":        {t.Context(), "", nil, receipt.Done, nil},
		"nothing":     {t.Context(), receipt.Nothing, nil, receipt.Nothing, nil},
		"failed":      {t.Context(), "", failure, receipt.Failed, &receipt.Stop{Part: "push", Message: "it says ••••••", Exit: 7}},
		"interrupted": {ended, "", failure, receipt.Interrupted, &receipt.Stop{Part: "push", Message: "it was interrupted", Exit: 130}},
	} {
		file := filepath.Join(dir, "new", name+".json")
		k, err := receipts.Begin(receipts.Options{Command: "ship", Program: "imbricat 1", Place: file, Values: filepath.Join(dir, "values"), Redactor: &secrets, Exit: func(error) int { return 7 }, Interrupted: 130})
		require.NoError(t, err)
		k.Part, k.Receipt.Outcome = "push", c.outcome
		require.ErrorIs(t, k.Close(c.ctx, c.err), c.err, name)
		r, err := receipts.Read(file)
		require.NoError(t, err)
		require.Equal(t, c.want, r.Outcome)
		require.Equal(t, c.stopped, r.Stopped)
	}
	values, err := os.ReadFile(filepath.Join(dir, "values"))
	require.NoError(t, err)
	for _, outcome := range []string{receipt.Done, receipt.Nothing, receipt.Failed, receipt.Interrupted} {
		require.Contains(t, string(values), "RECEIPT_OUTCOME="+outcome+"\n", "each run adds its lines")
	}

	var kind *flow.Error
	_, err = receipts.Begin(receipts.Options{Place: "registry.tideline.example/tides/receipts"})
	require.ErrorAs(t, err, &kind)
	require.Equal(t, flow.Usage, kind.Kind)
	_, err = receipts.Begin(receipts.Options{Place: filepath.Join(dir, "values", "below-a-file.json")})
	require.ErrorAs(t, err, &kind)
	k, err := receipts.Begin(receipts.Options{Place: filepath.Join(dir, "new"), Redactor: &secrets, Exit: func(error) int { return 1 }})
	require.NoError(t, err)
	err = k.Close(t.Context(), failure)
	require.ErrorIs(t, err, failure, "the run's error comes first")
	require.ErrorContains(t, err, "writing "+filepath.Join(dir, "new"))
}

// TestInRegistry: a receipt is found again under its tag with its platforms behind it, whole, and what is no receipt is told from it.
func TestInRegistry(t *testing.T) {
	r := flowtest.NewRegistry(t)
	place := r.Host + "/tides/receipts:run-7"
	one := digest.FromBytes([]byte("one"))
	put := func(images ...receipt.Image) {
		k, err := receipts.Begin(receipts.Options{Command: "ship", Place: place, Client: func() (*registry.Client, error) { return r.Client, nil }})
		require.NoError(t, err)
		k.Receipt.Images = images
		require.NoError(t, k.Close(t.Context(), nil))
	}
	put()
	require.Empty(t, r.Tags(t, "tides/receipts"), "nothing was built that anybody could join")
	put(receipt.Image{Name: "gauge", Digest: one, Platforms: []receipt.Platform{{Platform: "linux/amd64", Digest: one}, {Platform: "linux/arm64/v8", Digest: one}}}, receipt.Image{Name: "almanac", Digest: one, Platforms: []receipt.Platform{{Platform: "linux/amd64", Digest: one}}})
	require.Contains(t, r.Tags(t, "tides/receipts"), "run-7-linux-amd64-linux-arm64-v8")
	put(receipt.Image{Name: "gauge", Digest: one, Platforms: []receipt.Platform{{Platform: "linux/s390x", Digest: one}}})
	ref, err := reference.Parse(place)
	require.NoError(t, err)
	places := &transfer.Places{Client: r.Client}
	found, err := receipts.Tagged(t.Context(), places, ref)
	require.NoError(t, err)
	require.Len(t, found, 2)
	require.Equal(t, one, found[r.Host+"/tides/receipts:run-7-linux-s390x"].Images[0].Digest)
	ref.Tag = "run"
	found, err = receipts.Tagged(t.Context(), places, ref)
	require.NoError(t, err)
	require.Len(t, found, 2, "run-7 begins with run-")
	ref.Tag = "ru"
	found, err = receipts.Tagged(t.Context(), places, ref)
	require.NoError(t, err)
	require.Empty(t, found)
}

// TestFiles: what is no receipt yet is a doubt, and only what may be the file of one is taken for it.
func TestFiles(t *testing.T) {
	dir := t.TempDir()
	text, err := (&receipt.Receipt{Command: "build", Outcome: receipt.Done}).Encode()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "whole.json"), text, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "half.json"), text[:len(text)/2], 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "other.txt"), text, 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "folder.json"), 0o755))
	found, doubt := receipts.InFolder(dir)
	require.Len(t, found, 1)
	require.ErrorContains(t, doubt, "half.json")
	require.NotContains(t, doubt.Error(), "folder.json")
	for arg, is := range map[string]bool{filepath.Join(dir, "whole.json"): true, "none.json": true, filepath.Join(dir, "folder.json"): false, filepath.Join(dir, "other.txt"): false,
		"registry.tideline.example/tides/gauge.json": false, "gauge": false} {
		require.Equal(t, is, receipts.IsFile(arg), arg)
	}
}
