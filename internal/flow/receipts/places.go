package receipts

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/recipe"
)

// tagOf is the tag of a receipt in a repository: the given one with the platforms behind it.
func tagOf(tag string, r *receipt.Receipt) string {
	seen := map[string]bool{}
	for _, i := range r.Images {
		for _, p := range i.Platforms {
			if !seen[p.Platform] {
				seen[p.Platform] = true
				tag += "-" + strings.ReplaceAll(p.Platform, "/", "-")
			}
		}
	}
	return recipe.MendTag(tag)
}

// publish puts the receipt into a repository, as an artifact with a tag.
func (k *Recorder) publish(ctx context.Context, ref reference.Reference, text []byte) error {
	r := k.Receipt
	if len(r.Images) == 0 {
		return nil // nothing was built that anybody could join
	}
	client, err := k.o.Client()
	if err != nil {
		return err
	}
	if _, err := client.Repository(ref.Host, ref.Repository).PutArtifact(ctx, tagOf(ref.Tag, r), registry.Artifact{Type: receipt.MediaType, Content: text}); err != nil {
		return fmt.Errorf("keeping the receipt: %w", err)
	}
	return nil
}

// At reads the receipt that lies in a repository as an artifact. Nil: it is something else.
func At(ctx context.Context, place transfer.Place, root digest.Descriptor) (*receipt.Receipt, error) {
	if !image.IsManifest(root.MediaType) {
		return nil, nil
	}
	body, err := image.ReadDocument(ctx, place, root)
	if err != nil {
		return nil, err
	}
	var manifest v1.Manifest
	if json.Unmarshal(body, &manifest) != nil || manifest.ArtifactType != receipt.MediaType {
		return nil, nil
	}
	if len(manifest.Layers) != 1 || manifest.Layers[0].Size > receipt.Max || manifest.Layers[0].Digest.Validate() != nil {
		return nil, fmt.Errorf("%s is %w", place, receipt.ErrMalformed)
	}
	in, err := place.Fetch(ctx, manifest.Layers[0])
	if err != nil {
		return nil, err
	}
	defer in.Close()
	text, err := digest.ReadAll(in, manifest.Layers[0], receipt.Max)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", place, err)
	}
	return receipt.Decode(place.String(), bytes.NewReader(text))
}

// IsFile reports whether an argument is the file of a receipt: it ends in .json, and is no folder and nothing in a registry.
func IsFile(arg string) bool {
	if _, inRegistry := InRegistry(arg); inRegistry || !strings.HasSuffix(arg, ".json") {
		return false
	}
	info, err := os.Stat(arg)
	return err != nil || !info.IsDir()
}

// Read reads the receipt in a file.
func Read(name string) (*receipt.Receipt, error) {
	f, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, flow.Usagef("there is no receipt %s", name)
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	r, err := receipt.Decode(name, f)
	if errors.Is(err, receipt.ErrMalformed) {
		err = flow.WrongUse(err)
	}
	return r, err
}

// InFolder reads the receipts of a folder. What cannot be read, because it is being written, is a doubt.
func InFolder(dir string) (map[string]*receipt.Receipt, error) {
	names, err := filepath.Glob(filepath.Join(dir, "*.json"))
	if err != nil {
		return nil, err
	}
	found := map[string]*receipt.Receipt{}
	var doubt error
	for _, name := range names {
		if info, err := os.Stat(name); err != nil || !info.Mode().IsRegular() {
			continue
		}
		if r, err := Read(name); err != nil {
			doubt = errors.Join(doubt, err)
		} else {
			found[name] = r
		}
	}
	return found, doubt
}

// Tagged reads the receipts of a repository whose tags begin with a tag.
func Tagged(ctx context.Context, opener *transfer.Places, ref reference.Reference) (map[string]*receipt.Receipt, error) {
	tags, err := opener.Client.Repository(ref.Host, ref.Repository).Tags(ctx)
	if err != nil {
		return nil, err
	}
	found := map[string]*receipt.Receipt{}
	var doubt error
	for _, tag := range tags {
		if !strings.HasPrefix(tag, ref.Tag+"-") {
			continue
		}
		one := ref
		one.Tag = tag
		place, err := opener.Source(one)
		if err != nil {
			return nil, err
		}
		root, err := place.Root(ctx)
		if err == nil {
			var r *receipt.Receipt
			if r, err = At(ctx, place, root); r != nil {
				found[one.String()] = r
			}
		}
		doubt = errors.Join(doubt, err)
	}
	return found, doubt
}
