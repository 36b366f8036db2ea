package command

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/explain"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/redact"
	"imbricat/internal/spec/plan"
)

// TestPrinted: however output is cut into pieces, no secret gets through, nothing else is lost, and what is kept is bounded.
func TestPrinted(t *testing.T) {
	secrets := []string{"sesame-42\n", "-----BEGIN-----\nsecond line of it\nabc\n"}
	start := func(out *bytes.Buffer) *outputCapture {
		p := &outputCapture{tell: event.Reporter{Sink: event.Func(func(e event.Event) { out.WriteString(e.(event.Output).Text) })}, secrets: &redact.Redactor{}}
		for _, s := range secrets {
			p.secrets.Add([]byte(s))
		}
		return p
	}
	for cut := range len("sesame-42") { // wherever a line that is too long is cut
		var shown bytes.Buffer
		p := start(&shown)
		long := strings.Repeat("level ", longestLine/6+1)
		for _, text := range []string{long + "sesame-42"[:cut], "sesame-42"[cut:] + " tide", long + "\n"} {
			_, err := p.Write([]byte(text))
			require.NoError(t, err)
		}
		p.Close()
		require.NotContains(t, shown.String(), "sesame-42", cut)
		require.Contains(t, shown.String(), "•••••• tide", cut)
	}
	for seed := range uint64(200) {
		random := rand.New(rand.NewPCG(seed, 1))
		var all, shown bytes.Buffer
		for range random.IntN(60) {
			all.WriteString([]string{"tide ", "sesame-42", "sesame-4", "second line of it", "\n", "x\ny\n", strings.Repeat("level ", 30000), "abc"}[random.IntN(8)])
		}
		p := start(&shown)
		rest := all.Bytes()
		for len(rest) > 0 {
			n := min(len(rest), 1+random.IntN(1+random.IntN(100000)))
			_, err := p.Write(rest[:n])
			require.NoError(t, err)
			rest = rest[n:]
		}
		p.Close()
		require.NotContains(t, shown.String(), "sesame-42", seed)
		require.NotContains(t, shown.String(), "second line of it", seed)
		cover := strings.NewReplacer("sesame-42", "••••••", "second line of it", "••••••")
		require.Equal(t, cover.Replace(all.String()), shown.String(), seed)
		require.LessOrEqual(t, len(p.All()), keptBeginning+keptEnd+100)
		if shown.Len() <= keptBeginning+keptEnd {
			require.Equal(t, shown.String(), string(p.All()))
		} else {
			require.Contains(t, string(p.All()), "are left out here")
			require.True(t, strings.HasSuffix(shown.String(), string(p.All()[len(p.All())-1000:])))
		}
	}
}

// TestCommandKey: everything that a command can notice is in its key, and values of secrets are not.
func TestCommandKey(t *testing.T) {
	here := executor.Class{Sandbox: "3", IDs: "full"}
	made := func(change func(c *Command, class *executor.Class)) digest.Key {
		c, class := &Command{View: &executor.View{Index: tree.NewView()}}, here
		c.Args, c.Env, c.Dir, c.Network = []string{"sh"}, []string{"A=1"}, "/", true
		change(c, &class)
		return c.in(class).Key
	}
	same := made(func(*Command, *executor.Class) {})
	require.EqualValues(t, "77e4357dbbc0f137375fcac503de80f0ed2859ab70b810b8f082c64d5e253615", same, "the records of stores are kept under such keys")
	require.Equal(t, same, made(func(c *Command, _ *executor.Class) { c.Within, c.Title, c.Name.Index = 5, "gauge", 7 }))
	seen := map[digest.Key]string{same: "nothing"}
	for what, change := range map[string]func(c *Command, class *executor.Class){
		"arguments":   func(c *Command, _ *executor.Class) { c.Args = []string{"sh", ""} },
		"environment": func(c *Command, _ *executor.Class) { c.Env = []string{"A=2"} },
		"folder":      func(c *Command, _ *executor.Class) { c.Dir = "/tmp" },
		"user":        func(c *Command, _ *executor.Class) { c.User.UID = 1 },
		"groups":      func(c *Command, _ *executor.Class) { c.User.Groups = []int{60} },
		"network":     func(c *Command, _ *executor.Class) { c.Network = false },
		"tmp":         func(c *Command, _ *executor.Class) { c.FreshTmp = true },
		"platform":    func(c *Command, _ *executor.Class) { c.Platform.OS = "linux" },
		"kept":        func(c *Command, _ *executor.Class) { c.Keep = []plan.Keep{{Name: "n", At: "/n"}} },
		"secret":      func(c *Command, _ *executor.Class) { c.Secrets = []plan.SecretUse{{Name: "n", At: "/n"}} },
		"times":       func(c *Command, _ *executor.Class) { c.Time = 7 },
		"ids":         func(_ *Command, class *executor.Class) { class.IDs = "few" },
		"sandbox":     func(_ *Command, class *executor.Class) { class.Sandbox = "2" }, // what an earlier one ran is not reused
		"machine":     func(_ *Command, class *executor.Class) { class.Machine = []string{"a lower limit"} },
	} {
		key := made(change)
		require.Empty(t, seen[key], what)
		seen[key] = what
	}
	given := (&Command{View: &executor.View{}}).in(here)
	require.Equal(t, given.inputs, explain.DecodeInputs(given.Inputs))
	require.Equal(t, "echo 'a b' '' 'it'\\''s'", (&Command{do: plan.Run{Args: []string{"echo", "a b", "", "it's"}}}).shown())
}
