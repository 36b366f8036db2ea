package startable

import (
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/account"
	"imbricat/internal/ground/digest"
)

// TestDoubts: what settings name and a tree does not have is told, and nothing else is.
func TestDoubts(t *testing.T) {
	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	users := []byte("root:x:0:0::/root:/bin/sh\ngauge:x:70:71::/:\n")
	require.NoError(t, st.PutSmallFile(users))
	view := tree.NewView()
	require.NoError(t, view.Apply([]tree.Entry{
		{Path: "bin", Kind: tree.Symlink, Target: "usr/bin"},
		{Path: "etc", Kind: tree.Folder, Mode: 0o755},
		{Path: "etc/group", Kind: tree.File, Size: int64(len("tide:x:71:\n")), Content: digest.ContentBytes([]byte("tide:x:71:\n"))},
		{Path: "etc/passwd", Kind: tree.File, Size: int64(len(users)), Content: digest.ContentBytes(users)},
		{Path: "srv", Kind: tree.Folder, Mode: 0o755},
		{Path: "srv/run.sh", Kind: tree.File, Mode: 0o755},
		{Path: "usr", Kind: tree.Folder, Mode: 0o755},
		{Path: "usr/bin", Kind: tree.Folder, Mode: 0o755},
		{Path: "usr/bin/circle", Kind: tree.Symlink, Target: "circle"},
		{Path: "usr/bin/data", Kind: tree.File, Mode: 0o644},
		{Path: "usr/bin/gauge", Kind: tree.File, Mode: 0o755},
		{Path: "usr/bin/tide", Kind: tree.Symlink, Target: "gauge"},
	}, nil))
	require.NoError(t, st.PutSmallFile([]byte("tide:x:71:\n")))
	for name, c := range map[string]struct {
		config v1.ImageConfig
		want   []string
	}{
		"nothing":                {},
		"all there":              {config: v1.ImageConfig{User: "gauge:tide", WorkingDir: "/srv/", Entrypoint: []string{"/bin/tide"}}},
		"numbers":                {config: v1.ImageConfig{User: "4000:4000", Cmd: []string{"gauge"}}},
		"relative":               {config: v1.ImageConfig{WorkingDir: "/srv", Cmd: []string{"./run.sh"}}},
		"a user":                 {config: v1.ImageConfig{User: "guage"}, want: []string{`unknown-user the user "guage": /etc/passwd of the image has no "guage": did you mean "gauge"?`}},
		"a group":                {config: v1.ImageConfig{User: "0:keepers"}, want: []string{`unknown-user the user "0:keepers": /etc/group of the image has no "keepers": it has tide`}},
		"a folder":               {config: v1.ImageConfig{WorkingDir: "/srv/pages"}, want: []string{"missing-folder the working directory /srv/pages is not in the image: whoever runs it may make it, as root's; make: {folder: /srv/pages, owner: …} makes it"}},
		"a folder in a volume":   {config: v1.ImageConfig{WorkingDir: "/var/lib/tide/x", Volumes: map[string]struct{}{"/var/lib/tide/": {}}}},
		"a file for a folder":    {config: v1.ImageConfig{WorkingDir: "/bin/gauge"}, want: []string{"wrong missing-folder the working directory /bin/gauge is a file"}},
		"a program":              {config: v1.ImageConfig{Entrypoint: []string{"/bin/level"}}, want: []string{"missing-program the image starts /bin/level, which it does not have"}},
		"a circle":               {config: v1.ImageConfig{Entrypoint: []string{"/bin/circle"}}, want: []string{"missing-program the image starts /bin/circle, which it does not have"}},
		"a program in no folder": {config: v1.ImageConfig{Env: []string{"PATH=/srv:tools"}, Cmd: []string{"gauge"}}, want: []string{`missing-program the image starts "gauge", which is in no folder of its PATH (/srv:tools)`}},
		"a line":                 {config: v1.ImageConfig{Cmd: []string{"gauge --listen"}}, want: []string{`missing-program the image starts one program named "gauge --listen", which it does not have: write each word as an entry of its own`}},
		"no program":             {config: v1.ImageConfig{Cmd: []string{"/bin/data"}}, want: []string{"missing-program nobody may execute /bin/data, which the image starts: it has the mode 0644"}},
		"a folder for it":        {config: v1.ImageConfig{Cmd: []string{"/srv"}}, want: []string{"wrong missing-program /srv, which the image starts, is a folder"}},
		"in a volume":            {config: v1.ImageConfig{Cmd: []string{"/plug/in"}, Volumes: map[string]struct{}{"/plug": {}}}},
		"beside a volume":        {config: v1.ImageConfig{Cmd: []string{"/plugs/in"}, Volumes: map[string]struct{}{"/plug": {}}}, want: []string{"missing-program the image starts /plugs/in, which it does not have"}},
		"an empty name":          {config: v1.ImageConfig{Entrypoint: []string{""}}, want: []string{"wrong missing-program the program that the image starts has an empty name"}},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := Doubts(t.Context(), account.Finder{Store: st}, view, c.config)
			require.NoError(t, err)
			var said []string
			for _, d := range got {
				text := d.Code + " " + d.Text
				if d.Wrong {
					text = "wrong " + text
				}
				said = append(said, text)
			}
			require.Equal(t, c.want, said)
		})
	}
}
