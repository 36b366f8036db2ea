package plan

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/spec/project"
	"imbricat/internal/spec/recipe"
)

// corpus gathers the recipes that ship, that the documents show, and that the end-to-end tests build.
func corpus(t require.TestingT) map[string]string {
	texts := map[string]string{}
	read := func(name string) string {
		text, err := os.ReadFile(filepath.Join("../../..", name))
		require.NoError(t, err)
		return string(text)
	}
	own, err := filepath.Glob("../../../docs/recipes/*.yaml")
	require.NoError(t, err)
	for _, name := range append(own, "../../../demo/tideline/imbricat.yaml", "../../../demo/tideline/bases/imbricat.yaml") {
		texts[name] = read(strings.TrimPrefix(name, "../../../"))
	}
	for _, page := range []string{"docs/recipe.md", "docs/running.md"} {
		for n, part := range strings.Split(read(page), "```yaml\n")[1:] {
			if text, _, _ := strings.Cut(part, "```"); strings.HasPrefix(text, "imbricat:") {
				texts[fmt.Sprint(page, n)] = text
			}
		}
	}
	scripts, err := filepath.Glob("../../../e2e/testdata/*.txtar")
	require.NoError(t, err)
	commands, err := filepath.Glob("../../../e2e/testdata/run/*.txtar")
	require.NoError(t, err)
	scripts = append(scripts, commands...)
	for _, script := range scripts {
		archive, err := txtar.ParseFile(script)
		require.NoError(t, err)
		for _, f := range archive.Files {
			if strings.HasSuffix(f.Name, ".yaml") {
				texts[filepath.Base(script)+" "+f.Name] = strings.ReplaceAll(string(f.Data), "@", "")
			}
		}
	}
	require.Greater(t, len(texts), 20)
	return texts
}

// load is what the program makes of a recipe: nil, or an error.
func load(text string) error {
	r, err := recipe.Parse("r.yaml", []byte(text))
	if err != nil {
		return err
	}
	known := map[string]any{}
	for _, f := range r.Facts {
		known[f.Name] = "h.example:1/x"
	}
	_, err = Expand(r, Options{Here: platform.Here(), Packages: func() (*project.Graph, error) { return project.Read(noFiles{}) }, Scope: func(_ string, p platform.Platform) (*recipe.Scope, error) {
		text := map[string]any{}
		for _, name := range recipe.GitFields {
			text[name] = "x"
		}
		text["dirty"] = false
		return &recipe.Scope{Git: text, Env: map[string]any{"REGISTRY": "h.example:1", "STATION": "x"}, Facts: known,
			Platform: map[string]any{"os": p.OS, "architecture": p.Architecture, "variant": p.Variant},
			File:     func(string, string) (any, error) { return "1.4.0", nil }}, nil
	}})
	return err
}

// noFiles is a project folder with nothing in it.
type noFiles struct{ project.Files }

func (noFiles) Paths() ([]string, error) { return nil, nil }

// beyond are mistakes that no schema can tell: names, expressions, references, and what only other values decide.
var beyond = regexp.MustCompile(`no stage or image is named|needs itself|names a stage and an image|unknown name|is a (stage|image): write|is an image: write|` +
	`neither the folder nor the name of a package|names no package: none has|has no manifest of a package|names no registry|is not a registry host|is not a repository|is not an image name|is not a reference|needs a tag or a digest|want the repository|is not a tag|in an expression|` +
	`environment variable|not known here|network: "|mismatched types|expected bool|is not a mode|is not an owner|is beyond what|is not a port|is not a valid|leads out|must stay inside|` +
	`is not for|stands twice|a reference is empty|cannot hold|is not an address|has nothing|too many|holds? no|unexpected token|cannot use|interface conversion|invalid operation|gives|must not end with a slash|is needed for|after ':' is empty|no secret is named|can be put at|lie in each other|must be a time|names no program|are for lines of a shell|nothing is expanded in lines|is not a valid name for a user|is not a number of a user|cannot stand in a list|is not a signal|a check builds a stage|is known only once|result needs the name|the value of a secret can stand|is made of itself|is an agent, which|stand in tags alone|compares nothing|would stand on|the tag is for|differs between|cannot sign|not among those that are allowed|` +
	`no recipe of the graph is in|has no stage or image|is no path of the project folder|is no pattern of paths below|the recipe needs the key "images"|each has no list|the list .* has no |has a value for every list|two combinations of each|leave-out leaves no image|the lists of each make`)

func verdicts(schema *jsonschema.Schema, text string) (byLoader, bySchema error, readable bool) {
	var value any
	if yaml.Unmarshal([]byte(text), &value) != nil {
		return nil, nil, false
	}
	return load(text), schema.Validate(plain(value)), true
}

// plain returns YAML values in the types of JSON.
func plain(value any) any {
	switch v := value.(type) {
	case map[string]any:
		for key := range v {
			v[key] = plain(v[key])
		}
	case map[any]any:
		out := map[string]any{}
		for key := range v {
			out[fmt.Sprint(key)] = plain(v[key])
		}
		return out
	case []any:
		for i := range v {
			v[i] = plain(v[i])
		}
	case time.Time:
		return v.String()
	case float64:
		if math.IsInf(v, 0) || math.IsNaN(v) {
			return fmt.Sprint(v)
		}
	}
	return value
}

// TestSchemaAgreesWithTheLoader holds the schema, by an independent validator, against what the program accepts: on every
// recipe of the corpus, and on each with one value taken away, misnamed, or of another type.
func TestSchemaAgreesWithTheLoader(t *testing.T) {
	schema, wrong := compiled(t), 0
	for name, text := range corpus(t) {
		agree(t, schema, name, text)
		for what, mutant := range mutants(t, text) {
			if !agree(t, schema, name+": "+what, mutant) {
				wrong++
			}
		}
	}
	require.Greater(t, wrong, 1000, "a corpus of wrong recipes")
}

func compiled(t require.TestingT) *jsonschema.Schema {
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(recipe.Schema))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	compiler.DefaultDraft(jsonschema.Draft2020)
	require.NoError(t, compiler.AddResource("recipe.json", document))
	schema, err := compiler.Compile("recipe.json")
	require.NoError(t, err)
	return schema
}

// FuzzLoader: whatever the loader accepts, the schema accepts.
func FuzzLoader(f *testing.F) {
	schema := compiled(f)
	for _, text := range corpus(f) {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		byLoader, bySchema, readable := verdicts(schema, text)
		if readable && byLoader == nil && bySchema != nil {
			t.Fatalf("the schema alone refuses it: %v", bySchema)
		}
	})
}

// agree demands one verdict, and gives it.
func agree(t *testing.T, schema *jsonschema.Schema, name, text string) bool {
	byLoader, bySchema, readable := verdicts(schema, text)
	switch {
	case !readable:
	case byLoader == nil && bySchema != nil:
		t.Errorf("%s: the schema alone refuses it: %v\n%s", name, bySchema, text)
	case byLoader != nil && bySchema == nil && !beyond.MatchString(byLoader.Error()):
		t.Errorf("%s: the loader alone refuses it: %v\n%s", name, byLoader, text)
	}
	return byLoader == nil
}

// mutants returns a recipe with one change each.
func mutants(t *testing.T, text string) map[string]string {
	out := map[string]string{}
	var root yaml.Node
	if yaml.Unmarshal([]byte(text), &root) != nil || len(root.Content) == 0 {
		return out
	}
	keep := func(what string, n *yaml.Node) {
		changed, err := yaml.Marshal(&root)
		require.NoError(t, err)
		out[fmt.Sprintf("%s at %d:%d", what, n.Line, n.Column)] = string(changed)
	}
	var visit func(n *yaml.Node)
	visit = func(n *yaml.Node) {
		before := *n
		for what, other := range map[string]yaml.Node{
			"a number": {Kind: yaml.ScalarNode, Tag: "!!int", Value: "5"}, "nothing": {Kind: yaml.ScalarNode, Tag: "!!null", Value: "null"},
			"a mapping": {Kind: yaml.MappingNode, Tag: "!!map"}, "a list": {Kind: yaml.SequenceNode, Tag: "!!seq"}, "true": {Kind: yaml.ScalarNode, Tag: "!!bool", Value: "true"},
			"empty": {Kind: yaml.ScalarNode, Tag: "!!str", Style: yaml.DoubleQuotedStyle},
		} {
			if n.Anchor == "" && n.Kind != yaml.AliasNode {
				*n = other
				keep(what, &before)
				*n = before
			}
		}
		if n.Kind == yaml.MappingNode {
			for i := 0; i < len(n.Content); i += 2 {
				key := n.Content[i]
				if key.Tag == "!!merge" {
					continue
				}
				key.Value += "x"
				keep("misnamed", key)
				key.Value = strings.TrimSuffix(key.Value, "x")
				if n.Content[i+1].Anchor == "" {
					n.Content = append(append([]*yaml.Node{}, before.Content[:i]...), before.Content[i+2:]...)
					keep("taken away", key)
					n.Content = before.Content
				}
			}
			for i := 1; i < len(n.Content); i += 2 {
				visit(n.Content[i])
			}
			return
		}
		for _, item := range n.Content {
			visit(item)
		}
	}
	visit(root.Content[0])
	return out
}

// TestSchemaKnowsAllCodes: what silence may name is one table, and the schema has all of it.
func TestSchemaKnowsAllCodes(t *testing.T) {
	var document struct {
		Defs struct {
			Code struct{ Enum []string }
		} `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal(recipe.Schema, &document))
	require.ElementsMatch(t, event.Codes, document.Defs.Code.Enum)
}

// TestMistakes: what the documents say of mistakes is what the program says, and the schema finds them too, but for those that are beyond it.
func TestMistakes(t *testing.T) {
	schema := compiled(t)
	page, err := os.ReadFile("../../../docs/recipes/mistakes.md")
	require.NoError(t, err)
	rows := regexp.MustCompile("(?m)^\\| (\\w+) \\| `(.*)` \\| (.*) \\|$").FindAllStringSubmatch(string(page), -1)
	require.Greater(t, len(rows), 50)
	forms := map[string]string{
		"recipe": "%s\n", "image": "    %s\n", "settings": "    settings: {%s}\n", "step": "    steps:\n      - %s\n", "check": "    checks: [{%s}]\n",
		"tag": "    publish: {main: {to: h.example/g, tags: [%s]}}\n",
	}
	for _, row := range rows {
		require.Contains(t, forms, row[1])
		text := "imbricat: 1\nfacts: {version: 1.4.0}\nstages: {tables: {base: none}}\nimages:\n  gauge:\n    base: none\n" + fmt.Sprintf(forms[row[1]], row[2])
		_, bySchema, readable := verdicts(schema, text)
		byLoader := load(text)
		require.ErrorContains(t, byLoader, row[3], text)
		if readable && !beyond.MatchString(byLoader.Error()) {
			require.Error(t, bySchema, text)
		}
	}
}
