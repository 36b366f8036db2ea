package store

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"

	"imbricat/internal/ground/digest"
)

// What the store relies on without being able to compare it with anything lies there sealed: as a line of JSON, and a
// line with the hash of that. A disk or a person who changes a digit of a record must not change an image.

// Seal writes a value so that Unseal notices any damage.
func Seal(v any) ([]byte, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return append(append(append(text, '\n'), digest.ContentBytes(text)...), '\n'), nil
}

// Unseal reads what Seal wrote. What is damaged wraps digest.ErrMismatch.
func Unseal(text []byte, v any) error {
	line, sum, _ := bytes.Cut(text, []byte("\n"))
	if string(sum) != string(digest.ContentBytes(line))+"\n" {
		return digest.ErrMismatch
	}
	return json.Unmarshal(line, v)
}

// dropSealed removes sealed files of a kind. What is damaged counts as absent.
func dropSealed[T any](s *Store, kind string, due func(one *T) bool) (dropped int, err error) {
	err = s.eachFile(filepath.Join("imbricat", kind), func(path string) error {
		var one T
		text, err := os.ReadFile(path)
		if err != nil || Unseal(text, &one) != nil || !due(&one) {
			return nil
		}
		dropped++
		return os.Remove(path)
	})
	return dropped, err
}
