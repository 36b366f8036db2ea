package causes

import (
	"slices"
	"strings"
	"sync"

	"imbricat/internal/ground/ignore"
)

// Kind is what a file is known to be that differs each time it is made.
type Kind struct {
	Name  string // of many: "logs of the package manager"
	Cause Cause
	// Unlike tells that such a file is certain to be another each time, unless it is empty: it holds times or random numbers, whatever is done.
	Unlike bool
	// Drop tells that nothing misses the file: it can be removed by the step that made it.
	Drop bool
	// Env keeps a tool from making it, NAME=VALUE; empty: nothing is known to.
	Env string
	// Secret tells that it is a key that each machine should have of its own.
	Secret bool
	Cure   string // what is usually done, in words

	patterns []string
}

// kinds are files that tools leave and that differ each time. Patterns are those of ignore files.
var kinds = []Kind{
	{Name: "logs of the package manager", Unlike: true, Cause: Log, Drop: true, patterns: []string{"/var/log/dpkg.log", "/var/log/apt/", "/var/log/alternatives.log", "/var/log/dnf*.log", "/var/log/yum.log", "/var/log/hawkey.log",
		"/var/log/apk.log", "/var/log/bootstrap.log", "/var/log/pacman.log"}, Cure: "remove them in the same step"},
	{Name: "a cache of the loader", Unlike: true, Cause: Cache, Drop: true, patterns: []string{"/var/cache/ldconfig/aux-cache"}, Cure: "remove it in the same step: it is made again when it is needed"},
	{Name: "caches of the package manager", Cause: Cache, Drop: true, patterns: []string{"/var/cache/apt/*.bin", "/var/lib/apt/lists/*", "/var/cache/dnf/", "/var/cache/yum/", "/var/cache/debconf/*-old", "/var/lib/dpkg/*-old", "/var/cache/apk/"},
		Cure: "remove them in the same step"},
	{Name: "a journal of the package manager", Cause: Log, Drop: false, patterns: []string{"/var/lib/dnf/history.sqlite*", "/var/lib/rpm/", "/usr/lib/sysimage/rpm/", "/var/lib/apt/extended_states"}, Cure: "clock: fixed"},
	{Name: "python byte-code", Cause: Clock, Drop: true, Env: "PYTHONDONTWRITEBYTECODE=1", patterns: []string{"__pycache__/", "*.pyc"}, Cure: "PYTHONDONTWRITEBYTECODE=1, or compile with --invalidation-mode unchecked-hash"},
	{Name: "a cache of fonts", Cause: Cache, Drop: true, patterns: []string{"/var/cache/fontconfig/", "**/.cache/fontconfig/"}, Cure: "remove it in the same step"},
	{Name: "logs of npm", Unlike: true, Cause: Log, Drop: true, Env: "npm_config_logs_max=0", patterns: []string{"**/.npm/_logs/"}, Cure: "npm_config_logs_max=0, or remove them in the same step"},
	{Name: "caches of npm", Cause: Cache, Drop: true, patterns: []string{"**/.npm/_cacache/", "**/.npm/_update-notifier-last-checked", "**/node_modules/.cache/", "**/.cache/yarn/", "**/.yarn/cache/.tmp*", "**/.local/share/pnpm/", "**/.cache/node/"},
		Cure: "a kept directory for them (kept:), or remove them in the same step"},
	{Name: "caches of pip", Cause: Cache, Drop: true, Env: "PIP_NO_CACHE_DIR=1", patterns: []string{"**/.cache/pip/"}, Cure: "PIP_NO_CACHE_DIR=1, or a kept directory (kept:)"},
	{Name: "caches of the Go command", Cause: Cache, Drop: true, patterns: []string{"**/.cache/go-build/", "**/.config/go/telemetry/"}, Cure: "a kept directory (kept:), or remove them in the same step"},
	{Name: "caches of Maven and Gradle", Cause: Cache, Drop: true, patterns: []string{"**/.m2/repository/**/_remote.repositories", "**/.m2/repository/**/*.lastUpdated", "**/.m2/repository/**/resolver-status.properties", "**/.gradle/caches/", "**/.gradle/daemon/"},
		Cure: "a kept directory (kept:)"},
	{Name: "performance data of java", Cause: Processes, Drop: true, Env: "JAVA_TOOL_OPTIONS=-XX:-UsePerfData", patterns: []string{"/tmp/hsperfdata_*/"}, Cure: "fresh-tmp: true"},
	{Name: "an id of the machine", Cause: Random, Drop: false, patterns: []string{"/etc/machine-id", "/var/lib/dbus/machine-id"}, Cure: "write it empty (write: {to: /etc/machine-id, text: \"\"}): each machine makes its own"},
	{Name: "keys of the machine", Unlike: true, Cause: Random, Secret: true, Drop: true, patterns: []string{"/etc/ssh/ssh_host_*_key*", "/etc/ssl/private/*", "/etc/ssl/certs/ssl-cert-snakeoil.pem"},
		Cure: "remove them: everybody with the image would have them; make them when the image starts"},
	{Name: "days on which passwords changed", Cause: Clock, patterns: []string{"/etc/shadow", "/etc/shadow-"}, Cure: "clock: fixed, or `chage -d 0`"},
	{Name: "an index of manual pages", Cause: Cache, Drop: true, patterns: []string{"/var/cache/man/"}, Cure: "remove it in the same step"},
	{Name: "a history of a shell", Cause: Log, Drop: true, patterns: []string{".bash_history", ".ash_history", ".python_history", ".node_repl_history"}, Cure: "remove it in the same step"},
	{Name: "logs", Cause: Log, Drop: true, patterns: []string{"/var/log/*.log", "npm-debug.log", "config.log"}, Cure: "remove them in the same step"},
	{Name: "what lies in a folder for what is temporary", Cause: Random, Drop: true, patterns: []string{"/tmp/*", "/var/tmp/*"}, Cure: "fresh-tmp: true, or remove it in the same step"},
}

// matchers are those of the kinds, made once.
var matchers = sync.OnceValue(func() (all []ignore.Matcher) {
	for i := range kinds {
		all = append(all, ignore.New(kinds[i].patterns...))
	}
	return all
})

// marks are parts of which every path of a kind has one: nearly all paths have none, which is told fast.
var marks = []string{"log", "cache", "pyc", "tmp/", "lib/apt/", "lib/dpkg/", "lib/dnf", "rpm/", ".npm", ".config/go", ".m2/", ".gradle/", ".yarn", "pnpm", "node/", "machine-id", "ssh_host", "ssl/", "shadow", "_history"}

// Known tells what a path, without a slash at its beginning, is known to be.
func Known(path string) (Kind, bool) {
	if !slices.ContainsFunc(marks, func(mark string) bool { return strings.Contains(path, mark) }) {
		return Kind{}, false
	}
	for i, m := range matchers() {
		if m.MatchAll(path, false) {
			return kinds[i], true
		}
	}
	return Kind{}, false
}

// Shown is a path as people write it.
func Shown(path string) string { return "/" + strings.TrimPrefix(path, "/") }

// UsualCure tells what is usually done about differences, and about the conditions that were found to cause them; empty where nothing is known.
func UsualCure(all []Difference, found []Cause) string {
	for _, d := range all {
		if words := cures[d.Form]; words != "" && d.Cause != Other {
			return words
		}
	}
	for _, d := range all {
		if d.Form == BuildID || d.Form == GoBuild || d.Form == ByteCode {
			return cures[d.Form]
		}
	}
	for _, c := range found {
		if words := usual[c]; words != "" {
			return words
		}
	}
	for _, d := range all {
		if words := usual[d.Cause]; words != "" {
			return words
		}
	}
	return ""
}

// cures are what is done about what a format or a tool puts in, usual what is done about a cause.
var (
	cures = map[Form]string{
		Gzip:     "gzip -n writes no time and no name",
		Tar:      "tar --sort=name --mtime=@$SOURCE_DATE_EPOCH --owner=0 --group=0 --numeric-owner",
		Zip:      "give the files one time first (find … -exec touch -d @$SOURCE_DATE_EPOCH {} +) and the names in order (find … | sort | zip -X -@); of jar, --date",
		Archive:  "ar D and ranlib -D write no times and no owners",
		ByteCode: "PYTHONDONTWRITEBYTECODE=1, or compile with --invalidation-mode unchecked-hash and PYTHONHASHSEED=0",
		GoBuild:  "go build -trimpath -buildvcs=false, and facts given by -ldflags -X from the recipe",
		PDF:      "most writers of PDF take SOURCE_DATE_EPOCH; else clock: fixed",
	}
	usual = map[Cause]string{
		Clock:     "SOURCE_DATE_EPOCH is set, and many tools take it; else clock: fixed",
		Listing:   "sort the names (find … | sort, $(sort $(wildcard …)), LC_ALL=C), or listing: sorted",
		Random:    "give the tool a seed (PYTHONHASHSEED=0, PERL_HASH_SEED=0, -frandom-seed=…), or make the value from what it stands for; keys are made when the image starts",
		Addresses: "something prints or sorts by where things lie in memory: sort by name",
		Parallel:  "sort what is gathered from tasks that run at once, or run them one after another (make -j1)",
		Processes: "a number of a process ($$, mktemp) is in a name or a text: use a fixed one",
		Machine:   "uname or the host name is in the result: leave it out, or set it (KBUILD_BUILD_HOST, --build=…)",
		Place:     "inodes, sizes of folders or the file system are in the result: leave them out",
	}
)

// Folder returns the highest folder of a path that holds nothing but files of the kind, or the path itself.
func (k Kind) Folder(path string) string {
	m := ignore.New(k.patterns...)
	at := strings.TrimPrefix(path, "/")
	for above := at; ; {
		i := strings.LastIndexByte(above, '/')
		if i < 0 {
			return Shown(at)
		}
		if above = above[:i]; !m.MatchAll(above, true) {
			return Shown(at)
		}
		at = above
	}
}
