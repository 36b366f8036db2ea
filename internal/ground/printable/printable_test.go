package printable

import (
	"bytes"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// TestTexts: what a terminal acts on is shown, or left out; everything else stays as it is.
func TestTexts(t *testing.T) {
	for text, want := range map[string][3]string{ // as a text, as output with colours, as output without
		"tide 3.42 m\n\tharbour":          {"tide 3.42 m\n\tharbour", "tide 3.42 m\n\tharbour", "tide 3.42 m\n\tharbour"},
		"Höhe ▰ 潮":                        {"Höhe ▰ 潮", "Höhe ▰ 潮", "Höhe ▰ 潮"},
		"\x1b[31mred\x1b[0m":              {`\x1b[31mred\x1b[0m`, "\x1b[31mred\x1b[0m", "red"},
		"\x1b[38;2;1;2;3mred":             {`\x1b[38;2;1;2;3mred`, "\x1b[38;2;1;2;3mred\x1b[0m", "red"},
		"\x1b]0;title\x07after":           {`\x1b]0;title\x07after`, "after", "after"},
		"\x1b]8;;http://x\x1b\\link":      {`\x1b]8;;http://x\x1b\link`, "link", "link"},
		"\x1b]52;c;c2VjcmV0\nnext":        {`\x1b]52;c;c2VjcmV0` + "\nnext", "\nnext", "\nnext"},
		"\x1b[2J\x1b[1;1Htop":             {`\x1b[2J\x1b[1;1Htop`, "top", "top"},
		"\x1bPq#0\x1b\\sixel":             {`\x1bPq#0\x1b\sixel`, "sixel", "sixel"},
		"\x1bcreset":                      {`\x1bcreset`, "reset", "reset"},
		"\u009b31mwide\u009d0;t\u009cend": {`\u009b31mwide\u009d0;t\u009cend`, "wideend", "wideend"},
		"50 %\r100 %\n":                   {`50 %\x0d100 %` + "\n", "50 %\r100 %\n", "50 %\r100 %\n"},
		"a\bb\x00c\x7f":                   {`a\x08b\x00c\x7f`, "abc", "abc"},
		"safe\u202egpj.exe\u2066":         {`safe\u202egpj.exe\u2066`, "safegpj.exe", "safegpj.exe"},
		"line\u2028end":                   {`line\u2028end`, "lineend", "lineend"},
		"bad\xff\xc3":                     {`bad\xff\xc3`, "bad\ufffd\ufffd", "bad\ufffd\ufffd"},
		"cut\x1b[3":                       {`cut\x1b[3`, "cut", "cut"},
		"cut\x1b":                         {`cut\x1b`, "cut", "cut"},
		"\x1b\nline":                      {`\x1b` + "\nline", "\nline", "\nline"},
	} {
		require.Equal(t, want[0], Text(text))
		require.Equal(t, want[1], Output(text, true), "%q", text)
		require.Equal(t, want[2], Output(text, false), "%q", text)
		for _, colours := range []bool{true, false} {
			var to bytes.Buffer
			w := Writer(&to, colours)
			n, err := w.Write([]byte(text))
			require.NoError(t, err)
			require.Equal(t, len(text), n)
			if !colours {
				require.Equal(t, want[0], to.String())
			}
			require.Equal(t, &to, Unwrap(w))
		}
	}
	var to bytes.Buffer
	_, err := Writer(&to, true).Write([]byte("\x1b[1mbold\x1b[0m \x1b[2J"))
	require.NoError(t, err)
	require.Equal(t, "\x1b[1mbold\x1b[0m \\x1b[2J", to.String(), "colours alone")
}

// FuzzOutput: whatever comes, nothing passes that a terminal acts on, and what passed once passes again as it is.
func FuzzOutput(f *testing.F) {
	f.Add("\x1b[31mred\x1b]0;x\x07\u202e")
	f.Add("\x1bP\x1b\\\u009b\xff\r")
	f.Fuzz(func(t *testing.T, text string) {
		without := Output(text, false)
		require.True(t, utf8.ValidString(without))
		for _, r := range without {
			require.False(t, control(r) && r != '\r' || reorders(r), "%q", r)
		}
		require.Equal(t, without, Output(without, false))
		with := Output(text, true)
		require.Equal(t, with, Output(with, true))
		require.Equal(t, strings.Count(with, "\x1b"), strings.Count(with, "\x1b["))
		shown := Text(text)
		require.Equal(t, shown, Text(shown))
		for _, r := range shown {
			require.False(t, control(r) || reorders(r))
		}
	})
}
