package plan

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
)

// TestRedirect: where images go and under which tags, in place of what the recipe says or besides; and what has no meaning is refused.
func TestRedirect(t *testing.T) {
	at := func(text string) reference.Reference {
		ref, err := reference.ParseRepository(text)
		require.NoError(t, err)
		return ref
	}
	arm := platform.Platform{OS: "linux", Architecture: "arm64"}
	gauge := func() *Image {
		return &Image{Name: "stations/north#gauge", Destinations: []Destination{
			{Name: "main", Repository: at("h.example/tides/gauge"), Tags: []string{"1.4.0", "1.4"}, Prefixes: []string{"1.4"}, Held: []Held{{Tag: "newest"}}, Fixed: []string{"1*"}},
			{Name: "main", Repository: at("h.example/tides/gauge"), Tags: []string{"1.4.0-arm64"}, Platform: arm},
			{Name: "mirror", Repository: at("m.example/gauge"), Tags: []string{"1.4.0"}}}}
	}
	almanac := func() *Image {
		return &Image{Name: "almanac", Destinations: []Destination{{Name: "main", Repository: at("h.example/tides/almanac"), Tags: []string{"1.4.0"}}}}
	}
	pages := func() *Image { return &Image{Name: "pages"} }
	for _, c := range []struct {
		images   []*Image
		to, tags string // with blanks between them
		want     string // IMAGE REPOSITORY[ PLATFORM] TAGS, a line each
		wrong    string
	}{
		{[]*Image{gauge()}, "x.example/look", "", "x.example/look 1.4.0,1.4;x.example/look linux/arm64 1.4.0-arm64", ""},
		{[]*Image{gauge()}, "+x.example/look", "", "h.example/tides/gauge 1.4.0,1.4;h.example/tides/gauge linux/arm64 1.4.0-arm64;m.example/gauge 1.4.0;x.example/look 1.4.0,1.4;x.example/look linux/arm64 1.4.0-arm64", ""},
		{[]*Image{gauge()}, "x.example/all/", "2", "x.example/all/gauge 2", ""},
		{[]*Image{gauge()}, "x.example/", "2 +3 +2", "x.example/gauge 2,3", ""},
		{[]*Image{gauge()}, "", "+newest", "h.example/tides/gauge 1.4.0,1.4,newest;h.example/tides/gauge linux/arm64 1.4.0-arm64;m.example/gauge 1.4.0,newest", ""},
		{[]*Image{gauge(), almanac()}, "almanac=x.example/a", "", "h.example/tides/gauge 1.4.0,1.4;h.example/tides/gauge linux/arm64 1.4.0-arm64;m.example/gauge 1.4.0;x.example/a 1.4.0", ""},
		{[]*Image{gauge(), almanac()}, "", "almanac=9", "h.example/tides/gauge 1.4.0,1.4;h.example/tides/gauge linux/arm64 1.4.0-arm64;m.example/gauge 1.4.0;h.example/tides/almanac 9", ""},
		{[]*Image{pages()}, "x.example/pages", "1", "x.example/pages 1", ""},
		{[]*Image{pages()}, "x.example/pages", "", "", "none is assumed: give --tag"},
		{[]*Image{gauge(), almanac()}, "x.example/look", "", "", "is one repository for 2 images"},
		{[]*Image{gauge(), almanac()}, "stations/north#gauge=x.example/a almanac=x.example/a", "", "", "would stand on the image stations/north#gauge and on almanac"},
		{[]*Image{almanac()}, "almanak=x.example/a", "", "", `no image "almanak"`},
		{[]*Image{almanac()}, "x.example/A", "", "", "--to x.example/A"},
		{[]*Image{almanac()}, "", "a:b", "", "--tag a:b"},
	} {
		r, err := ParseRedirection(strings.Fields(c.to), strings.Fields(c.tags))
		var out *Plan
		if err == nil {
			out, err = (&Plan{Images: c.images}).Redirect(r, func(name string) bool { return name == "almanac" || name == "stations/north#gauge" || name == "pages" })
		}
		if c.wrong != "" {
			require.ErrorContains(t, err, c.wrong)
			continue
		}
		require.NoError(t, err)
		var got []string
		for n, i := range out.Images {
			require.Equal(t, append([]Destination{}, c.images[n].Destinations...), out.Destinations(i.Name), "what the recipe says stays known")
			for _, d := range i.Destinations {
				got = append(got, strings.Join(strings.Fields(d.Repository.String()+" "+d.Single()+" "+strings.Join(d.Tags, ",")), " "))
				if d.Name != "mirror" && d.Whole() && len(c.images) == 1 && i.Name != "pages" && c.tags == "" {
					require.Equal(t, []string{"1*"}, d.Fixed, "what is fixed stays so")
				}
			}
		}
		require.Equal(t, c.want, strings.Join(got, ";"))
	}
}
