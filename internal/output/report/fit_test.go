package report

import (
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"
)

// TestFit: on a terminal no line is longer than it is wide, none begins where a line of its own would, and no word is lost; elsewhere
// nothing is touched.
func TestFit(t *testing.T) {
	long := "  2 ○ reused  copy gauge/bin/gauge-linux-amd64 to /usr/bin/gauge --keep-going " + Paint{On: true}.Muted("(1 file, 416 B; unchanged)") + "\nshort\n"
	require.Equal(t, long, Paint{}.Fit(long))
	for _, columns := range []int{40, 60, 80} {
		fitted := Paint{Columns: columns}.Fit(long)
		require.Equal(t, strings.Fields(ansi.Strip(long)), strings.Fields(ansi.Strip(fitted)), columns)
		for n, line := range strings.Split(ansi.Strip(fitted), "\n") {
			require.LessOrEqual(t, ansi.StringWidth(line), columns)
			if n > 0 && line != "" && line != "short" {
				require.True(t, strings.HasPrefix(line, "      "), line)
			}
		}
	}
}
