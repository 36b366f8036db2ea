package store

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"imbricat/internal/ground/digest"
)

// Reached is what a command reached through a relay, or was kept from.
type Reached struct {
	To      string        `json:"to"`                // HOST:PORT, or the address of a file that HTTP brought, without a user and a query
	Times   int           `json:"times"`             // how often
	Bytes   int64         `json:"bytes"`             // that came from there, each time together
	Status  int           `json:"status,omitempty"`  // of HTTP; 0: there is none, or nobody but the command sees it
	Content digest.Digest `json:"content,omitempty"` // of a body that came whole, each time the same; empty: it is not known
	Problem Problem       `json:"problem,omitempty"`
}

// Problem is why a command did not reach something.
type Problem string

// The problems.
const (
	NotListed   Problem = "not listed"  // the recipe does not let it
	Unreachable Problem = "unreachable" // there was no connection
)

// MostReached bounds how much of that a record tells. What is more goes into one line, whose To is the last of these.
const MostReached = 1000

// OtherHosts stands for what is not told one by one.
const OtherHosts = "others"

// longestTo bounds an address, in bytes.
const longestTo = 2048

// AddReached adds one thing to a list that is sorted and bounded.
func AddReached(list []Reached, one Reached) []Reached {
	if len(one.To) > longestTo {
		one.To = strings.ToValidUTF8(one.To[:longestTo], "") + "…"
	}
	at, found := slices.BinarySearchFunc(list, one, compareReached)
	if !found && len(list) >= MostReached {
		one = Reached{To: OtherHosts, Times: one.Times, Bytes: one.Bytes, Problem: one.Problem}
		at, found = slices.BinarySearchFunc(list, one, compareReached)
	}
	if !found {
		return slices.Insert(list, at, one)
	}
	list[at].Times += one.Times
	list[at].Bytes += one.Bytes
	return list
}

func compareReached(a, b Reached) int {
	return cmp.Or(strings.Compare(a.To, b.To), cmp.Compare(a.Status, b.Status), strings.Compare(string(a.Content), string(b.Content)), strings.Compare(string(a.Problem), string(b.Problem)))
}

// WithProblem lists what a command asked for and did not reach for a reason, sorted.
func WithProblem(list []Reached, p Problem) (to []string) {
	for _, one := range list {
		if one.Problem == p {
			to = append(to, one.To)
		}
	}
	return to
}

// BroughtElse lists the addresses that two runs of a command reached and that brought something else, sorted.
func BroughtElse(before, now []Reached) (all []string) {
	contents := func(list []Reached) map[string][]string {
		found := map[string][]string{}
		for _, one := range list {
			if one.Content != "" {
				found[one.To] = append(found[one.To], string(one.Content))
			}
		}
		return found
	}
	was, is := contents(before), contents(now)
	for _, to := range slices.Sorted(maps.Keys(is)) {
		if len(was[to]) > 0 && !slices.Equal(was[to], is[to]) {
			all = append(all, to)
		}
	}
	return all
}
