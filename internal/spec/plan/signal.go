package plan

import (
	"slices"
	"strconv"
	"strings"

	"imbricat/internal/spec/recipe"
)

// signals are the names that Linux has for signals, without SIG.
var signals = strings.Fields(`HUP INT QUIT ILL TRAP ABRT IOT BUS FPE KILL USR1 SEGV USR2 PIPE ALRM TERM STKFLT CHLD CLD CONT STOP TSTP TTIN TTOU URG XCPU XFSZ VTALRM
	PROF WINCH IO POLL PWR SYS RTMIN RTMAX`)

// mostSignal is the highest number of a signal.
const mostSignal = 64

// checkSignal refuses what no machine knows as a signal.
func (e *evaluator) checkSignal(t recipe.Template, text string) {
	if text == "" {
		return
	}
	if n, err := strconv.Atoi(text); err == nil && n >= 1 && n <= mostSignal {
		return
	}
	name, with := strings.CutPrefix(text, "SIG")
	base, offset := name, ""
	if i := strings.IndexAny(name, "+-"); i > 0 && (name[:i] == "RTMIN" || name[:i] == "RTMAX") {
		base, offset = name[:i], name[i+1:]
	}
	_, err := strconv.ParseUint(offset, 10, 5)
	if slices.Contains(signals, base) && (offset == "" || err == nil) {
		return
	}
	hint := "write SIGTERM, SIGRTMIN+3 or a number from 1 to 64"
	if near := recipe.Nearest(base, signals); near != "" {
		prefix := ""
		if with {
			prefix = "SIG"
		}
		hint = "did you mean " + strconv.Quote(prefix+near) + "?"
	}
	e.report(t.Pos, "%q is not a signal; %s", text, hint)
}
