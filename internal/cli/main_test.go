package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	"imbricat/internal/content/image"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
	"imbricat/internal/remote/registry"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

func TestExitCodes(t *testing.T) {
	_, wrong := recipe.Parse("r", []byte("images: 5"))
	for _, c := range []struct {
		err  error
		code int
	}{
		{errors.New("anything"), 1},
		{digest.ErrMismatch, 1},
		{fs.ErrNotExist, 1},
		{&registry.Error{Status: 404}, 1},
		{flow.Usagef("x"), 2},
		{wrong, 2},
		{&image.NoPlatformError{Wanted: platform.Here()}, 2},
		{&facts.UnknownFact{}, 2},
		{&facts.BadEpoch{}, 2},
		{plan.ErrChoice, 2},
		{flow.Differsf("x"), 3},
		{flow.Refusedf("x"), 4},
		{flow.Unablef("x"), 6},
		{flow.Failedf("%w", registry.ErrUnreachable), 1},
		{&statusError{7}, 7},
		{&registry.Error{Status: 401}, 4},
		{&registry.Error{Status: 403}, 4},
		{registry.ErrUnreachable, 5},
		{&registry.Error{Status: 503}, 5},
		{&registry.Error{Status: 429}, 5},
		{&sandbox.UnableError{}, 6},
	} {
		require.Equal(t, c.code, exitCode(c.err), "%v", c.err)
		require.Equal(t, c.code, exitCode(fmt.Errorf("in something: %w", c.err)), "%v", c.err)
	}
}

// TestWrongLines: every command refuses an option and, with what it holds, a command that it does not know, with exit code 2, and says how to
// go on; and every one tells of itself.
func TestWrongLines(t *testing.T) {
	t.Chdir(t.TempDir())
	run := func(line ...string) (int, string, string) {
		var out, problems strings.Builder
		code := Main(append([]string{"imbricat"}, line...), strings.NewReader(""), &out, &problems)
		return code, out.String(), problems.String()
	}
	commands := 0
	var walk func(c *cli.Command, line []string)
	walk = func(c *cli.Command, line []string) {
		commands++
		code, _, problems := run(append(slices.Clone(line), "--no-such-option")...)
		require.Equal(t, exitUsage, code, line)
		require.Contains(t, problems, "--help` lists them", line)
		code, out, _ := run(append(slices.Clone(line), "--help")...)
		require.Equal(t, exitDone, code, line)
		require.Contains(t, strings.Join(strings.Fields(out), " "), strings.Join(strings.Fields(c.Usage), " "))
		for text := range strings.Lines(out) {
			require.LessOrEqual(t, len([]rune(text)), helpWidth+1, text)
		}
		if len(c.Commands) > 0 && c.ArgsUsage == "" {
			code, _, problems = run(append(slices.Clone(line), "nosuchcommand")...)
			require.Equal(t, exitUsage, code, line)
			require.Contains(t, problems, "nosuchcommand", line)
		}
		for _, sub := range c.Commands {
			walk(sub, append(slices.Clone(line), sub.Name))
		}
	}
	walk(newApp(strings.NewReader(""), io.Discard, io.Discard), nil)
	require.Greater(t, commands, 50)
}
