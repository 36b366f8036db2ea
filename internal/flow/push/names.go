package push

import (
	"path"
	"strings"

	"imbricat/internal/flow"
	"imbricat/internal/ground/reference"
)

// NameOf is what an image is called in a place of names, by where it comes from.
func NameOf(ref reference.Reference) string {
	switch {
	case ref.Kind == reference.Registry && ref.Tag != "":
		return path.Base(ref.Repository) + ":" + ref.Tag
	case ref.Kind == reference.Store && ref.Name != "":
		// As the standard has names: # is none of their signs.
		return strings.ReplaceAll(ref.StoreName(), "#", "+")
	}
	return ref.Member
}

// NameAt is the tag or the name that a copy writes.
func NameAt(from, to reference.Reference) (string, error) {
	switch {
	case from.Kind == reference.Registry && from.Identifier() == "":
		return "", flow.Usagef("%s needs a tag or a digest: none is assumed", from)
	case to.Digest != "":
		return "", flow.Usagef("%s: a digest cannot be chosen; give a tag or a name", to)
	case to.Kind == reference.Registry && to.Tag == "":
		return "", flow.Usagef("a push needs a tag, none is assumed: write %s:TAG", to)
	case to.Kind == reference.Registry:
		return to.Tag, nil
	case to.Kind == reference.Store:
		return to.StoreName(), nil
	case to.Member != "":
		return to.Member, nil
	}
	return NameOf(from), nil
}
