package facts

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"imbricat/internal/ground/files"

	"github.com/BurntSushi/toml"
	"github.com/magiconair/properties"
	"go.yaml.in/yaml/v3"
)

// Bounds on manifests, so that a hostile one is refused instead of eating memory.
const (
	maxManifest = 4 << 20 // bytes
	maxDepth    = 100     // elements of an XML document in each other
)

// manifests reads fields of files below a folder, each file once.
type manifests struct {
	dir   string
	mutex sync.Mutex
	read  map[string]manifest
}

type manifest struct {
	value any
	err   error
}

// Field returns a field of a JSON, YAML, TOML, XML or properties file. Its path has names with dots between them; numbers count the
// items of a list from 0, and in XML @NAME is an attribute. Without a field it is the text of any file, without the blanks around it.
// What is not there is nil.
func (m *manifests) Field(name, field string) (any, error) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	key, read := name, readManifest
	if field == "" {
		key, read = name+"\x00", readPlain
	}
	one, known := m.read[key]
	if !known {
		one.value, one.err = read(m.dir, name)
		if m.read == nil {
			m.read = map[string]manifest{}
		}
		m.read[key] = one
	}
	if errors.Is(one.err, fs.ErrNotExist) {
		return nil, nil
	}
	if one.err != nil {
		return nil, one.err
	}
	value := find(one.value, field)
	switch value.(type) {
	case nil, string, bool, float64, int, int64:
		return value, nil
	}
	return nil, fmt.Errorf("%s in %s is not text, a number or a truth value, but has parts: name one of them", field, name)
}

// filesOf returns what reads fields of files of a folder's recipe.
func (f *Facts) filesOf(folder string) func(name, field string) (any, error) {
	if folder == "" {
		return f.files.Field
	}
	return func(name, field string) (any, error) {
		if !fs.ValidPath(path.Clean(name)) {
			return nil, fmt.Errorf("%s leads out of %s", name, folder)
		}
		return f.files.Field(path.Join(folder, name), field)
	}
}

func readPlain(dir, name string) (any, error) {
	text, err := readSmall(dir, name)
	if err == nil && (!utf8.Valid(text) || bytes.IndexByte(text, 0) >= 0) {
		err = fmt.Errorf("%s is not UTF-8 text", name)
	}
	return strings.TrimSpace(string(text)), err
}

func readSmall(dir, name string) ([]byte, error) {
	f, err := files.OpenRegularIn(dir, name)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, maxManifest+1))
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	if len(text) > maxManifest {
		return nil, fmt.Errorf("%s has more than %d bytes: too many for a manifest", name, maxManifest)
	}
	return text, nil
}

func readManifest(dir, name string) (any, error) {
	text, err := readSmall(dir, name)
	if err != nil {
		return nil, err
	}
	var value any
	switch strings.ToLower(path.Ext(name)) {
	case ".json":
		err = json.Unmarshal(text, &value)
	case ".yaml", ".yml":
		err = yaml.Unmarshal(text, &value)
	case ".toml":
		err = toml.Unmarshal(text, &value)
	case ".xml", ".csproj", ".fsproj", ".vbproj", ".props":
		value, err = readXML(text)
	case ".properties":
		var read *properties.Properties
		if read, err = (&properties.Loader{Encoding: properties.UTF8, DisableExpansion: true}).LoadBytes(text); err == nil {
			fields := map[string]any{}
			for _, key := range read.Keys() {
				fields[key], _ = read.Get(key)
			}
			value = fields
		}
	default:
		return nil, fmt.Errorf("%s is not a manifest that is understood (.json, .yaml, .toml, .xml, .csproj, .properties): file(%q) without a field is its whole text", name, name)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return value, nil
}

// readXML returns an element as a map of its attributes ("@name") and children, several of one name as a list, and an
// element without either as its text. The root element is the one entry of what is returned.
func readXML(text []byte) (any, error) {
	d := xml.NewDecoder(bytes.NewReader(text))
	for {
		token, err := d.Token()
		if err != nil {
			return nil, err
		}
		if start, ok := token.(xml.StartElement); ok {
			value, err := element(d, start, 0)
			return map[string]any{start.Name.Local: value}, err
		}
	}
}

func element(d *xml.Decoder, start xml.StartElement, depth int) (any, error) {
	if depth > maxDepth {
		return nil, fmt.Errorf("its elements are nested more than %d deep", maxDepth)
	}
	parts := map[string]any{}
	for _, a := range start.Attr {
		parts["@"+a.Name.Local] = a.Value
	}
	var text strings.Builder
	for {
		token, err := d.Token()
		if err != nil {
			return nil, err
		}
		switch t := token.(type) {
		case xml.CharData:
			text.Write(t)
		case xml.StartElement:
			value, err := element(d, t, depth+1)
			if err != nil {
				return nil, err
			}
			parts[t.Name.Local] = appended(parts[t.Name.Local], value)
		case xml.EndElement:
			if len(parts) == 0 {
				return strings.TrimSpace(text.String()), nil
			}
			return parts, nil
		}
	}
}

// appended makes a list of elements that share a name.
func appended(old, value any) any {
	switch o := old.(type) {
	case nil:
		return value
	case []any:
		return append(o, value)
	}
	return []any{old, value}
}

// find follows a path of names. A name that holds dots itself is found too.
func find(value any, field string) any {
	if field == "" {
		return value
	}
	switch v := value.(type) {
	case map[string]any:
		for end := 0; end <= len(field); end++ {
			if end < len(field) && field[end] != '.' {
				continue
			}
			below, has := v[field[:end]]
			if !has {
				continue
			}
			if found := find(below, strings.TrimPrefix(field[end:], ".")); found != nil {
				return found
			}
		}
	case []any:
		name, rest, _ := strings.Cut(field, ".")
		if i, err := strconv.Atoi(name); err == nil && i >= 0 && i < len(v) {
			return find(v[i], rest)
		}
	}
	return nil
}
