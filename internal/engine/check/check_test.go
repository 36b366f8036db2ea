package check

import (
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
	"imbricat/internal/spec/recipe"
)

func file(path string, size int64) tree.Entry {
	return tree.Entry{Path: path, Kind: tree.File, Size: size}
}

// TestJudge holds every kind of check on both sides of its bound.
func TestJudge(t *testing.T) {
	subject := &Subject{Config: v1.ImageConfig{User: "keeper:tides"}, UID: 1000, Packed: 1000, Secrets: []string{"etc/key.pem", "root/.token"},
		Layers: [][]tree.Entry{
			{{Path: "srv", Kind: tree.Folder}, file("srv/a", 600), file("srv/gone", 100)},
			{{Path: "srv", Kind: tree.Folder}, file("srv/a", 300), {Path: "srv/gone", Kind: tree.Whiteout}}}}
	root := *subject
	root.Config.User, root.UID = "", 0
	for _, c := range []struct {
		do     recipe.Checked
		s      *Subject
		holds  bool
		detail string
	}{
		{&recipe.SizeCheck{Packed: 1000}, subject, true, "1.0 kB packed"},
		{&recipe.SizeCheck{Packed: 999}, subject, false, "1.0 kB packed"},
		{&recipe.SizeCheck{Unpacked: 1000, Packed: 5000}, subject, true, "1.0 kB packed, 1.0 kB unpacked"},
		{&recipe.SizeCheck{Unpacked: 999, Packed: 5000}, subject, false, "unpacked"},
		{&recipe.UserCheck{Not: []string{"root", "0"}}, subject, true, `it runs as "keeper", whose number is 1000`},
		{&recipe.UserCheck{Not: []string{"root"}}, &root, false, "it names no user, so it runs as root"},
		{&recipe.UserCheck{Not: []string{"1000"}}, subject, false, "keeper"},
		{&recipe.UserCheck{Not: []string{"keeper"}}, subject, false, "keeper"},
		{&recipe.SecretsCheck{}, subject, false, "found /etc/key.pem, /root/.token"},
		{&recipe.SecretsCheck{LeaveOut: []string{"*.pem"}}, subject, false, "found /root/.token"},
		{&recipe.SecretsCheck{LeaveOut: []string{"*.pem", "/root/"}}, subject, true, "none was found in any layer"},
		{&recipe.WasteCheck{Bytes: 700}, subject, true, "700 B of 1.0 kB are hidden by layers above: /srv/a (600 B), /srv/gone (100 B)"},
		{&recipe.WasteCheck{Bytes: 699}, subject, false, "/srv/gone"},
		{&recipe.WasteCheck{Percent: 70, Share: true}, subject, true, "hidden"},
		{&recipe.WasteCheck{Percent: 69, Share: true}, subject, false, "hidden"},
		{&recipe.WasteCheck{Share: true}, &Subject{}, true, "no layer holds anything that another hides"},
		{&recipe.ForbidCheck{Paths: []string{"/srv/a"}}, subject, false, "there are /srv/a"},
		{&recipe.NeedCheck{Paths: []string{"/srv/a", "srv/"}}, subject, true, "all is there"},
		{&recipe.NeedCheck{Paths: []string{"/srv/a", "gone", "/srv/a/"}}, subject, false, "nothing is at gone, /srv/a/"},
		{&recipe.ForbidCheck{Paths: []string{"gone"}}, subject, true, "nothing is there"},
		{&recipe.ForbidCheck{Paths: []string{"srv/*", "!srv/a"}}, subject, true, "nothing is there"},
	} {
		v := Judge(c.do, c.s)
		require.Equal(t, map[bool]string{true: Holds, false: Fails}[c.holds], v.Outcome, "%+v: %+v", c.do, v)
		require.Contains(t, v.Detail, c.detail, "%+v", c.do)
		require.NotEmpty(t, v.What)
		require.True(t, Known(c.do))
	}
	require.False(t, Known(&recipe.TryCheck{}))
	require.Equal(t, Unable, Judge(&recipe.BaseCheck{}, subject).Outcome)
}
