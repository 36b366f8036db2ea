package cli

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

// mostPast is how many earlier builds of an image are remembered.
const mostPast = 50

// pastName is the store's memo of the layers that earlier builds of an image had.
func pastName(s *session, id plan.UnitID) string {
	project, err := s.project()
	if err != nil {
		return ""
	}
	return "past-" + digest.FromBytes([]byte(project + "\x00" + id.String())).Encoded()[:32]
}

// readPast gives the layers of earlier builds, oldest first.
func readPast(st *store.Store, s *session, id plan.UnitID) (builds [][]digest.DiffID) {
	text, found := st.Memo(pastName(s, id))
	if !found || json.Unmarshal(text, &builds) != nil {
		return nil
	}
	return builds
}

// notePast remembers the layers of what was built. Failing to costs knowledge of the past and nothing else.
func notePast(ctx context.Context, s *session, st *store.Store, result *engine.Result) {
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
			builds := readPast(st, s, id)
			if len(builds) > 0 && slices.Equal(builds[len(builds)-1], now) {
				continue
			}
			builds = append(builds, now)
			if text, err := json.Marshal(builds[max(0, len(builds)-mostPast):]); err == nil {
				_ = st.PutMemo(pastName(s, id), text)
			}
		}
	}
}
