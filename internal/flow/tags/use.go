package tags

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/download"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/retention"
)

// maxUse bounds a list of what is in use, in bytes.
const maxUse = 64 << 20

// digestForm is a digest wherever it stands: such lists are manifests of clusters, inventories, and the like.
var digestForm = regexp.MustCompile(`\b(?:sha256:[0-9a-f]{64}|sha512:[0-9a-f]{128})\b`)

// ReadUse reads the digests that stand anywhere in a file or at an address, each with the place that says so. A place that names none is
// an error: whoever lists what is in use by a mistake must not have all of it deleted.
func ReadUse(ctx context.Context, agent string, places []string) (map[digest.Digest]string, error) {
	all := map[digest.Digest]string{}
	for _, place := range places {
		text, err := readUse(ctx, agent, place)
		if err != nil {
			return nil, fmt.Errorf("what is in use is not known, so nothing was deleted: %w", err)
		}
		found := digestForm.FindAll(text, -1)
		if len(found) == 0 {
			return nil, fmt.Errorf("%s names no digest that is in use, so nothing was deleted", place)
		}
		for _, d := range found {
			if _, known := all[digest.Digest(d)]; !known {
				all[digest.Digest(d)] = place
			}
		}
	}
	return all, nil
}

func readUse(ctx context.Context, agent, place string) ([]byte, error) {
	var in io.ReadCloser
	var err error
	if strings.HasPrefix(place, "https://") || strings.HasPrefix(place, "http://") {
		in, _, err = download.New(agent).Get(ctx, place)
	} else {
		in, err = os.Open(place)
	}
	if err != nil {
		return nil, err
	}
	defer in.Close()
	text, err := io.ReadAll(io.LimitReader(in, maxUse+1))
	if err == nil && len(text) > maxUse {
		err = fmt.Errorf("%s has more than %d bytes", place, maxUse)
	}
	return text, err
}

// inUse are what tags stand on that is in use, or that lists something which is.
func inUse(inventory *transfer.Inventory, used map[digest.Digest]string) map[digest.Digest]string {
	all := map[digest.Digest]string{}
	for _, t := range inventory.Tags {
		reached := retention.Doomed([]retention.Verdict{{Tag: retention.Tag{Digest: t.Digest}}}, inventory.Below)
		for _, d := range reached {
			if by := used[d]; by != "" {
				all[t.Digest] = by
			}
		}
	}
	return all
}

// Simulate tells what a repository would hold in days to come, by its pushes until now.
func Simulate(ctx context.Context, inventory *transfer.Inventory, rule retention.Rule, now time.Time, days int) ([]retention.Point, error) {
	type pushed struct {
		retention.Push
		digest digest.Digest
		blobs  map[digest.Digest]int64
	}
	var all []*pushed
	rule.InUse = nil // what is in use then is not known
	for _, t := range inventory.Tags {
		if transfer.SubjectOf(t.Name) != "" {
			continue
		}
		at := t.Pushed
		if at.IsZero() && !rule.ByPush {
			at = t.Created
		}
		i := slices.IndexFunc(all, func(p *pushed) bool { return p.digest == t.Digest })
		if i < 0 {
			i, all = len(all), append(all, &pushed{Push: retention.Push{Time: at}, digest: t.Digest, blobs: t.Blobs})
		}
		if all[i].Tags = append(all[i].Tags, t.Name); at.Before(all[i].Time) {
			all[i].Time = at
		}
	}
	slices.SortStableFunc(all, func(a, b *pushed) int {
		return cmp.Or(a.Time.Compare(b.Time), strings.Compare(string(a.digest), string(b.digest)))
	})
	var pushes []retention.Push
	had := map[digest.Digest]bool{}
	for _, p := range all {
		for d, n := range p.blobs {
			if !had[d] {
				had[d] = true
				p.Bytes += n
			}
		}
		pushes = append(pushes, p.Push)
	}
	return retention.Simulate(ctx, pushes, rule, now, days, 30)
}
