package weight

import (
	"path"
	"slices"
	"strings"
)

// kinds of files by the ends of their names. Names tell enough to see where bytes are, and nothing is opened for it.
var kinds = []struct {
	name string
	ends []string
}{
	{"libraries", []string{".so", ".a", ".dll", ".dylib", ".ko", ".o"}},
	{"archives", []string{".tar", ".gz", ".tgz", ".xz", ".bz2", ".zst", ".zip", ".whl", ".deb", ".rpm", ".apk", ".7z"}},
	{"Java", []string{".jar", ".war", ".class", ".jmod"}},
	{"Python", []string{".py", ".pyc", ".pyi", ".pyx"}},
	{"JavaScript", []string{".js", ".mjs", ".cjs", ".ts", ".mts", ".cts", ".jsx", ".tsx", ".map"}},
	{"pages", []string{".html", ".htm", ".css", ".scss", ".less"}},
	{"data", []string{".json", ".xml", ".yaml", ".yml", ".toml", ".csv", ".sql", ".db", ".sqlite", ".sqlite3", ".bin", ".dat", ".pack", ".idx"}},
	{"text", []string{".md", ".txt", ".rst", ".adoc", ".pdf", ".log"}},
	{"pictures", []string{".png", ".jpg", ".jpeg", ".gif", ".svg", ".ico", ".webp", ".bmp"}},
	{"fonts", []string{".ttf", ".otf", ".woff", ".woff2", ".pcf", ".pfb"}},
	{"translations", []string{".mo", ".po", ".gmo"}},
	{"sources", []string{".h", ".hpp", ".hh", ".c", ".cc", ".cpp", ".go", ".rs", ".java", ".kt", ".cs", ".rb", ".pl", ".pm", ".lua", ".sh"}},
	{"certificates", []string{".pem", ".crt", ".cer", ".p12"}},
}

// kindOf returns what kind of file a path names, by its name and whether it can be executed.
func kindOf(p string, mode uint32) string {
	name := strings.ToLower(path.Base(p))
	if strings.Contains(name, ".so.") {
		return "libraries"
	}
	end := path.Ext(name)
	for _, k := range kinds {
		if end != "" && slices.Contains(k.ends, end) {
			return k.name
		}
	}
	if mode&0o111 != 0 {
		return "programs"
	}
	return "other"
}
