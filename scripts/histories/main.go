// Histories replays the published versions of real packages through divisions into layers and prints what each would
// have cost. It fetches what it does not have yet with the clients of the packages' registries.
package main

import (
	"flag"
	"fmt"
	"math"
	"os"
	"reflect"
	"strconv"
	"strings"
	"text/tabwriter"

	"imbricat/internal/engine/order"
)

// Tuned are the histories that the numbers of the method were chosen on.
var tuned = []string{"npm:eslint", "npm:core-js", "npm:caniuse-lite", "npm:lodash-es", "npm:webpack", "go:golang.org/x/text", "go:golang.org/x/net"}

// Reported are histories that had no part in that.
var reported = []string{"npm:npm", "npm:date-fns", "npm:rxjs", "npm:three", "go:golang.org/x/tools",
	"npm:mathjs", "npm:element-plus", "npm:highlight.js", "go:google.golang.org/api", "npm:antd"}

func main() {
	cache := flag.String("cache", os.TempDir(), "folder that keeps the lists of files")
	count := flag.Int("versions", 30, "how many of the last versions")
	layers := flag.Int("layers", 16, "most layers")
	tuning := flag.String("tuning", "", "numbers of the method to try, as in \"Horizon=8 Rounds=0\"")
	which := flag.Bool("tuned", false, "the histories that the method was tuned on, not the others")
	flag.Parse()
	names := flag.Args()
	if len(names) == 0 {
		if names = reported; *which {
			names = tuned
		}
	}
	if err := replay(*cache, names, *count, order.Options{Most: *layers, Tuning: tuningOf(*tuning)}); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// tuningOf reads numbers of the method.
func tuningOf(text string) order.Tuning {
	t := order.Default
	for _, set := range strings.Fields(text) {
		name, value, _ := strings.Cut(set, "=")
		n, err := strconv.ParseInt(value, 10, 64)
		f := reflect.ValueOf(&t).Elem().FieldByName(name)
		if err != nil || !f.IsValid() {
			fmt.Fprintf(os.Stderr, "%s is not a number of the method\n", set)
			os.Exit(2)
		}
		f.SetInt(n)
	}
	return t
}

// columns are the strategies that are compared.
var columns = []string{"one layer", "static", "lock", "follow", "hindsight"}

// deadShares are the shares of dead bytes, in percent, that follow is replayed with too.
var deadShares = []int{10, 20}

func replay(cache string, names []string, count int, o order.Options) error {
	out := tabwriter.NewWriter(os.Stdout, 2, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(out, "history\tversions\tfiles\tchanged\t\tre-pushed, times hindsight:\t\t\t\t\t\t\tre-unpacked, times changed:\t\t\t\t\t\t\n")
	fmt.Fprintf(out, "\t\t\t\thindsight/changed\t%s\tfollow/static\tdead 10%%\t20%%\t%s\tdead 10%%\t20%%\t\n", strings.Join(columns[:4], "\t"), strings.Join(columns[:4], "\t"))
	logs := make([]float64, 14)
	for _, name := range names {
		h, err := load(cache, name, count)
		if err != nil {
			return err
		}
		past, floor := versions(h)
		order.Learn(past)
		var pushed, unpacked []float64
		for _, s := range []order.Strategy{order.Single(past), order.Static(past, o.Most), order.Locked(past, 10, o), order.Following(past, o), order.Hindsight(past, o.Most)} {
			p, u := sum(order.Replay(past, s))
			pushed, unpacked = append(pushed, p), append(unpacked, u)
		}
		last := past[len(past)-1]
		for _, o.Dead = range deadShares {
			p, u := sum(order.FollowingWithDead(past, o))
			pushed, unpacked = append(pushed, p), append(unpacked, u)
		}
		row := []float64{pushed[4] / floor, pushed[0] / pushed[4], pushed[1] / pushed[4], pushed[2] / pushed[4], pushed[3] / pushed[4], pushed[3] / pushed[1], pushed[5] / pushed[4], pushed[6] / pushed[4],
			unpacked[0] / floor, unpacked[1] / floor, unpacked[2] / floor, unpacked[3] / floor, unpacked[5] / floor, unpacked[6] / floor}
		fmt.Fprintf(out, "%s\t%d\t%d\t%.1f MB\t", name, len(past), len(last.Items), floor/1e6)
		for i, v := range row {
			logs[i] += math.Log(v)
			fmt.Fprintf(out, "%.2f\t", v)
		}
		fmt.Fprintln(out)
	}
	fmt.Fprintf(out, "geometric mean\t\t\t\t")
	for _, sum := range logs {
		fmt.Fprintf(out, "%.3f\t", math.Exp(sum/float64(len(names))))
	}
	fmt.Fprintln(out)
	return out.Flush()
}

// sum adds up what all versions but the first cost.
func sum(all []order.Bytes) (pushed, unpacked float64) {
	for _, b := range all[1:] {
		pushed, unpacked = pushed+float64(b.Pushed), unpacked+float64(b.Unpacked)
	}
	return pushed, unpacked
}

// header is about what an entry of a layer takes besides its bytes.
const header = 512

// versions returns a history as the method takes it, and the bytes of what came or changed after the first version.
func versions(h *history) (past []order.Version, floor float64) {
	last := map[string]string{}
	for v, version := range h.Versions {
		p := order.Version{Name: version.Name}
		now := map[string]string{}
		for _, f := range version.Files {
			same := string(f.Content[:])
			p.Items = append(p.Items, order.Item{Path: f.Path, Size: f.Size + header})
			p.Same = append(p.Same, same)
			if now[f.Path] = same; v > 0 && last[f.Path] != same {
				floor += float64(f.Size + header)
			}
		}
		past, last = append(past, p), now
	}
	return past, floor
}
