package history

import (
	"context"
	"encoding/json"
	"slices"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/ground/digest"
	"imbricat/internal/spec/plan"
)

// mostBuilds is how many earlier builds of an image are remembered.
const mostBuilds = 50

// memoOf names the store's memo of the layers that earlier builds of an image had.
func memoOf(project string, id plan.UnitID) string {
	return "past-" + digest.FromBytes([]byte(project + "\x00" + id.String())).Encoded()[:32]
}

// readBuilds returns the layers of earlier builds, oldest first.
func readBuilds(st *store.Store, project string, id plan.UnitID) (builds [][]digest.DiffID) {
	text, found := st.Memo(memoOf(project, id))
	if !found || json.Unmarshal(text, &builds) != nil {
		return nil
	}
	return builds
}

// NoteBuild remembers the layers of what was built. Failing to costs knowledge of the past and nothing else.
func NoteBuild(ctx context.Context, st *store.Store, project string, result *engine.Result) {
	if result == nil {
		return
	}
	for _, i := range result.Images {
		for _, p := range i.Platforms {
			m, err := image.ReadManifest(ctx, st, p.Descriptor)
			if err != nil {
				continue
			}
			config, err := image.ReadConfig(ctx, st, m)
			if err != nil {
				continue
			}
			now := []digest.DiffID{}
			for _, id := range config.RootFS.DiffIDs {
				now = append(now, digest.DiffID(id))
			}
			id := plan.UnitID{Name: i.Name, Platform: p.Platform}
			builds := readBuilds(st, project, id)
			if len(builds) > 0 && slices.Equal(builds[len(builds)-1], now) {
				continue
			}
			builds = append(builds, now)
			if text, err := json.Marshal(builds[max(0, len(builds)-mostBuilds):]); err == nil {
				_ = st.PutMemo(memoOf(project, id), text)
			}
		}
	}
}
