// Package reference reads the forms in which a person names an image: in a registry, in the store, in a layout
// directory or in an archive.
//
// It only parses; it never looks whether anything is there.
package reference

import (
	"fmt"
	"path/filepath"
	"regexp"
	"strings"

	"imbricat/internal/ground/digest"
)

// Kind tells where a reference points.
type Kind int

// The kinds of reference.
const (
	Store    Kind = iota // a name or a digest prefix in the local store
	Registry             // HOST[:PORT]/REPOSITORY[:TAG][@DIGEST]
	Layout               // an OCI layout directory
	Archive              // a tar archive of an OCI layout
)

func (k Kind) String() string {
	return [...]string{"store", "registry", "layout", "archive"}[k]
}

// Reference is a parsed reference. Which fields are set depends on Kind.
type Reference struct {
	Kind Kind

	Host       string // registry: with its port where one was given
	Repository string // registry
	Name       string // store: the name without its tag, with FOLDER# before it where its recipe names it so
	Tag        string // registry, store: may be empty
	Digest     digest.Digest

	Path   string // layout, archive: as it was written
	Member string // layout, archive: the image after '#', or empty
}

var (
	hostForm       = regexp.MustCompile(`^(\[[0-9a-fA-F:.]+\]|[A-Za-z0-9]([A-Za-z0-9.-]*[A-Za-z0-9])?)(:[0-9]{1,5})?$`)
	repositoryForm = regexp.MustCompile(`^[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*(/[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*)*$`)
	nameForm       = regexp.MustCompile(`^[A-Za-z0-9]+([._-]+[A-Za-z0-9]+)*$`)
	folderForm     = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*(/[A-Za-z0-9][A-Za-z0-9._-]*)*$`)
	tagForm        = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9._-]*$`)
)

func isTag(text string) bool { return len(text) <= 128 && tagForm.MatchString(text) }

// Parse reads any form of reference.
func Parse(text string) (Reference, error) {
	switch {
	case text == "":
		return Reference{}, fmt.Errorf("a reference is empty")
	case strings.HasPrefix(text, "./"), strings.HasPrefix(text, "../"), text == ".", text == "..", filepath.IsAbs(text), strings.HasPrefix(text, "/"):
		return parsePath(text)
	case strings.Contains(text, "#"):
		return parseGraph(text)
	case strings.Contains(text, "/"):
		return parseRegistry(text)
	}
	return parseName(text)
}

// otherArchives are ends of names that promise an archive of another form than .tar.
var otherArchives = []string{".tgz", ".tar.gz", ".tar.zst", ".tar.xz", ".tar.bz2", ".tbz", ".txz", ".zip"}

func parsePath(text string) (Reference, error) {
	path, member, _ := strings.Cut(text, "#")
	kind := Layout
	if strings.HasSuffix(path, ".tar") {
		kind = Archive
	}
	for _, end := range otherArchives {
		if strings.HasSuffix(strings.ToLower(path), end) {
			return Reference{}, fmt.Errorf("%q: an archive of images ends in .tar: it is not compressed, and its layers are", text)
		}
	}
	return Reference{Kind: kind, Path: path, Member: member}, nil
}

func parseRegistry(text string) (Reference, error) {
	ref, err := parseRepository(text)
	if err != nil {
		return ref, err
	}
	return ref, checkTag(text, ref.Tag)
}

func parseRepository(text string) (Reference, error) {
	rest, given, err := cutDigest(text)
	if err != nil {
		return Reference{}, err
	}
	host, path, _ := strings.Cut(rest, "/")
	repository, tag, tagged := strings.Cut(path, ":")
	switch {
	case !hostForm.MatchString(host):
		return Reference{}, fmt.Errorf("%q: %q is not a registry host", text, host)
	case !strings.ContainsAny(host, ".:") && host != "localhost":
		return Reference{}, fmt.Errorf("%q names no registry: write its host first, such as registry.tideline.example/%s", text, rest)
	case !repositoryForm.MatchString(repository) || len(repository) > 255:
		return Reference{}, fmt.Errorf("%q: %q is not a repository: use lower-case letters, digits, and single . _ - / between them", text, repository)
	case tagged && tag == "":
		return Reference{}, fmt.Errorf("%q: the tag after ':' is empty", text)
	}
	return Reference{Kind: Registry, Host: host, Repository: repository, Tag: tag, Digest: given}, nil
}

func cutDigest(text string) (string, digest.Digest, error) {
	rest, written, found := strings.Cut(text, "@")
	if !found {
		return text, "", nil
	}
	d, err := digest.Parse(written)
	if err != nil {
		return "", "", fmt.Errorf("%q: %w", text, err)
	}
	return rest, d, nil
}

func checkTag(text, tag string) error {
	if tag != "" && !isTag(tag) {
		return fmt.Errorf("%q: %q is not a tag: up to 128 letters, digits, and . _ -, not starting with . or -", text, tag)
	}
	return nil
}

// IsFolder reports whether the folder of a recipe may stand before # in the name of an image.
func IsFolder(text string) bool { return folderForm.MatchString(text) }

// parseGraph reads the name of an image of a recipe in a folder, FOLDER#NAME, or of the recipe that names the others, #NAME.
func parseGraph(text string) (Reference, error) {
	folder, name, _ := strings.Cut(text, "#")
	if folder != "" && !IsFolder(folder) {
		return Reference{}, fmt.Errorf("%q: %q is not the folder of a recipe", text, folder)
	}
	ref, err := parseName(name)
	switch {
	case err != nil:
		return Reference{}, fmt.Errorf("%q: %w", text, err)
	case ref.Name == "":
		return Reference{}, fmt.Errorf("%q: after # comes the name of an image", text)
	case folder != "":
		ref.Name = folder + "#" + ref.Name
	}
	return ref, nil
}

func parseName(text string) (Reference, error) {
	if d, err := digest.Parse(text); err == nil {
		return Reference{Kind: Store, Digest: d}, nil
	}
	name, tag, tagged := strings.Cut(text, ":")
	if !nameForm.MatchString(name) {
		return Reference{}, fmt.Errorf("%q is not an image name: use letters, digits, and . _ - between them", text)
	}
	if tagged && tag == "" {
		return Reference{}, fmt.Errorf("%q: the tag after ':' is empty", text)
	}
	return Reference{Kind: Store, Name: name, Tag: tag}, checkTag(text, tag)
}

// ParseRepository reads HOST[:PORT]/REPOSITORY and refuses a tag or digest after it.
func ParseRepository(text string) (Reference, error) {
	if !strings.Contains(text, "/") || strings.HasPrefix(text, ".") || strings.HasPrefix(text, "/") {
		return Reference{}, fmt.Errorf("%q names no registry: write HOST[:PORT]/REPOSITORY", text)
	}
	ref, err := parseRepository(text)
	if err == nil && (ref.Tag != "" || ref.Digest != "") {
		return Reference{}, fmt.Errorf("%q: want the repository alone, without tag or digest", text)
	}
	return ref, err
}

// CheckTag reports whether text may be a tag.
func CheckTag(text string) error {
	if !isTag(text) {
		return fmt.Errorf("%q is not a tag: up to 128 letters, digits, and . _ -, not starting with . or -", text)
	}
	return nil
}

// CheckHost reports whether text is HOST[:PORT].
func CheckHost(text string) error {
	if !hostForm.MatchString(text) || (!strings.ContainsAny(text, ".:") && text != "localhost") {
		return fmt.Errorf("%q is not a registry host: write HOST[:PORT], such as registry.tideline.example", text)
	}
	return nil
}

// DigestPrefix returns the hexadecimal digits when a store name may be the start of a digest: at least 6 digits.
func (r Reference) DigestPrefix() (string, bool) {
	if r.Kind != Store || r.Tag != "" || len(r.Name) < 6 || len(r.Name) > 64 {
		return "", false
	}
	return r.Name, strings.Trim(r.Name, "0123456789abcdef") == ""
}

// StoreName is the name under which the store lists an image: NAME or NAME:TAG.
func (r Reference) StoreName() string {
	if r.Tag == "" {
		return r.Name
	}
	return r.Name + ":" + r.Tag
}

// Identifier is what a registry is asked for: the digest where one is given, else the tag.
func (r Reference) Identifier() string {
	if r.Digest != "" {
		return string(r.Digest)
	}
	return r.Tag
}

// String is a form that Parse reads back.
func (r Reference) String() string {
	switch r.Kind {
	case Registry:
		return r.Host + "/" + r.Repository + suffix(":", r.Tag) + suffix("@", string(r.Digest))
	case Store:
		if r.Name == "" {
			return string(r.Digest)
		}
		return r.StoreName()
	}
	return r.Path + suffix("#", r.Member)
}

func suffix(mark, text string) string {
	if text == "" {
		return ""
	}
	return mark + text
}
