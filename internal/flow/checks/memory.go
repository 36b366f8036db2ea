package checks

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"imbricat/internal/content/store"
	"imbricat/internal/engine/check"
	"imbricat/internal/ground/digest"
	"imbricat/internal/output/receipt"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// memory is what earlier runs found that holds, by the check and the digest of the image for one platform. It only saves work: where two
// programs write it at once, one of them may lose what it found.
type memory struct {
	store *store.Store
	found []heldCheck
	grew  bool
}

// heldCheck is a check that held.
type heldCheck struct {
	Key    string    `json:"key"`
	What   string    `json:"what"`
	Detail string    `json:"detail"`
	At     time.Time `json:"at"`
}

const (
	memoryName = "checks.json"
	mostHeld   = 2000 // the newest
)

// remember reads what is known. With fresh nothing is.
func remember(st *store.Store, fresh bool) *memory {
	m := &memory{store: st}
	if text, there := st.Memo(memoryName); there && !fresh {
		_ = json.Unmarshal(text, &m.found) // what is damaged is found out again
	}
	return m
}

// keyOf returns what a check of an image is remembered by; empty where what it comes to is not decided by the image alone: by the
// time, by a registry, by the machine's network, by a stage.
func keyOf(agent string, chroot bool, image digest.Digest, one plan.Check) string {
	said := any(one.Do)
	switch do := one.Do.(type) {
	case *recipe.BaseCheck, *recipe.StageCheck:
		return ""
	case *recipe.TryCheck:
		if do.Network || chroot { // which shares the machine's network
			return ""
		}
		said = []any{one.Command, one.Arguments, one.Env, one.Get, do.Port, do.Status, do.Within, do.ReadOnly}
	}
	text, err := json.Marshal([]any{agent, image, fmt.Sprintf("%T", one.Do), said})
	if err != nil {
		return ""
	}
	return string(digest.FromBytes(text))
}

// find returns what an earlier run found.
func (m *memory) find(key string) (*heldCheck, bool) {
	at := slices.IndexFunc(m.found, func(h heldCheck) bool { return key != "" && h.Key == key })
	if at < 0 {
		return nil, false
	}
	return &m.found[at], true
}

// note remembers a check that holds now.
func (m *memory) note(key string, c receipt.Check) {
	if key == "" || c.Outcome != check.Holds {
		return
	}
	m.found = append(slices.DeleteFunc(m.found, func(h heldCheck) bool { return h.Key == key }),
		heldCheck{Key: key, What: c.Check, Detail: c.Detail, At: time.Now().UTC().Truncate(time.Second)})
	m.grew = true
}

// keep writes down what was found.
func (m *memory) keep() error {
	if !m.grew {
		return nil
	}
	text, err := json.Marshal(m.found[max(0, len(m.found)-mostHeld):])
	if err != nil {
		return err
	}
	return m.store.PutMemo(memoryName, text)
}
