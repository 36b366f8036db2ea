package recipe

import (
	"crypto/sha256"
	"encoding/hex"
	"regexp"
	"strings"
)

// mostTag is the length that the distribution specification allows a tag.
const mostTag = 128

var unfitForTag = regexp.MustCompile(`[^A-Za-z0-9_.-]+`)

// MendTag makes a tag of any text: each run of signs that no tag has becomes one "-", and a "." or "-" at the start goes.
// Of what is longer than 128 signs the first 119 stay, with "-" and the first 8 digits of the text's SHA-256 behind them,
// so that long names which differ at their ends stay apart. Nothing may be left.
func MendTag(text string) string {
	mended := strings.TrimLeft(unfitForTag.ReplaceAllString(text, "-"), ".-")
	if len(mended) > mostTag {
		sum := sha256.Sum256([]byte(text))
		mended = mended[:mostTag-9] + "-" + hex.EncodeToString(sum[:4])
	}
	return mended
}

// TagText evaluates the template of a tag. With mend what its expressions give is made fit for a tag; what the recipe itself
// says stays as it is.
func (t Template) TagText(s *Scope, mend bool) (string, error) {
	text, err := t.Text(s)
	if err != nil || !mend || len(t.Expressions()) == 0 {
		return text, err
	}
	for _, p := range t.parts {
		if p.expr == nil && unfitForTag.MatchString(p.text) {
			return text, nil // a slip in the recipe
		}
	}
	return MendTag(text), nil
}
