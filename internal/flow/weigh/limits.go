package weigh

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"

	"imbricat/internal/content/tree"
	"imbricat/internal/content/weight"
	"imbricat/internal/engine/check"
	"imbricat/internal/flow"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/recipe"
)

// Limit is what an image must not exceed.
type Limit struct {
	text    string
	check   recipe.Checked // nil: one of the following
	layer   int64          // packed bytes of the largest layer
	growth  int64          // packed bytes more than what it is weighed against
	percent int            // the same, of what that has; -1: growth counts
}

// ParseLimit reads NAME=SIZE, or NAME=PERCENT% where a share is meant. packed, unpacked and waste are those of a recipe's checks.
func ParseLimit(text string) (l Limit, err error) {
	name, value, is := strings.Cut(text, "=")
	l.text, l.percent = text, -1
	var bytes uint64
	percent := -1
	if share, part := strings.CutSuffix(value, "%"); part {
		percent, err = strconv.Atoi(strings.TrimSpace(share))
		is = is && percent >= 0
	} else {
		bytes, err = humanize.ParseBytes(value)
	}
	if !is || err != nil || percent < -1 || bytes > 1<<62 {
		return l, flow.Usagef("--limit takes NAME=SIZE, such as packed=40MB, or waste=5%%, not %q", text)
	}
	size := int64(bytes)
	switch {
	case name == "packed" && percent < 0 && size > 0:
		l.check = &recipe.SizeCheck{Packed: size}
	case name == "unpacked" && percent < 0 && size > 0:
		l.check = &recipe.SizeCheck{Unpacked: size}
	case name == "waste":
		l.check = &recipe.WasteCheck{Bytes: size, Percent: percent, Share: percent >= 0}
	case name == "layer" && percent < 0 && size > 0:
		l.layer = size
	case name == "growth":
		l.growth, l.percent = size, percent
	default:
		return l, flow.Usagef("--limit knows packed, unpacked, layer, waste=SIZE or PERCENT%%, and growth=SIZE or PERCENT%% with --against; not %q", text)
	}
	return l, nil
}

// Hold holds an image against limits.
func (i *Image) Hold(ctx context.Context, limits []Limit, one *report.Weighed) (list []report.Limit, err error) {
	if len(limits) == 0 {
		return nil, nil
	}
	layers, err := i.Layers(ctx)
	if err != nil {
		return nil, err
	}
	subject := &check.Subject{Packed: one.Total.Packed, Layers: entriesOf(layers)}
	for _, l := range limits {
		v := check.Verdict{}
		switch {
		case l.check != nil:
			v = check.Judge(l.check, subject)
		case l.layer > 0:
			v = l.largest(one)
		case one.Against == nil:
			return nil, flow.Usagef("--limit %s needs --against REFERENCE: growth is in comparison with something", l.text)
		default:
			v = l.grown(one)
		}
		list = append(list, report.Limit{What: v.What, Holds: v.Outcome == check.Holds, Detail: v.Detail})
	}
	return list, nil
}

func (l Limit) largest(one *report.Weighed) check.Verdict {
	at, most := 0, int64(0)
	for i := range one.Layers {
		if one.Layers[i].Packed > most {
			at, most = i+1, one.Layers[i].Packed
		}
	}
	return verdict(most <= l.layer, "no layer larger than "+report.Size(l.layer), fmt.Sprintf("layer %d has %s", at, report.Size(most)))
}

func (l Limit) grown(one *report.Weighed) check.Verdict {
	grown := one.Against.Grown
	detail := "it is not larger"
	if grown > 0 {
		detail = report.Size(grown) + " larger"
	}
	if l.percent < 0 {
		return verdict(grown <= l.growth, fmt.Sprintf("at most %s larger than %s", report.Size(l.growth), one.Against.Reference), detail)
	}
	had := one.Total.Packed - grown
	return verdict(grown <= 0 || float64(grown)*100 <= float64(l.percent)*float64(had), fmt.Sprintf("at most %d %% larger than %s", l.percent, one.Against.Reference), detail+" than "+report.Size(had))
}

func verdict(holds bool, what, detail string) check.Verdict {
	v := check.Verdict{What: what, Outcome: check.Fails, Detail: detail}
	if holds {
		v.Outcome = check.Holds
	}
	return v
}

// entriesOf lists what layers hold, the lowest first.
func entriesOf(layers []weight.Layer) (all [][]tree.Entry) {
	for i := range layers {
		all = append(all, layers[i].Index.Entries)
	}
	return all
}
