package registry

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"imbricat/internal/ground/digest"
)

// TagMemory is told of what tags stand on, as a client writes them and sees them. It may be called by several goroutines at once.
type TagMemory interface {
	Wrote(repository, tag string, d digest.Digest)
	Saw(repository, tag string, d digest.Digest)
}

// ReasonHeader tells a registry why a tag is written, percent-encoded. Registries that do not know it take no notice.
const ReasonHeader = "Imbricat-Reason"

// maxReason bounds a reason, in bytes.
const maxReason = 1000

// Because is the repository with a reason for the tags that are written there.
func (r *Repository) Because(reason string) *Repository {
	own := *r
	own.reason = url.PathEscape(reason[:min(len(reason), maxReason)])
	return &own
}

// Stood is what a tag stood on from a time on.
type Stood struct {
	Time   time.Time     `json:"time"`
	Digest digest.Digest `json:"digest,omitempty"` // empty: the tag was deleted
	Who    string        `json:"who,omitempty"`
	Why    string        `json:"why,omitempty"`
}

// maxHistory bounds a tag's history, in bytes.
const maxHistory = 8 << 20

// History returns what a tag stood on, the oldest first, where the registry keeps that: an extension of the distribution-spec, which
// others answer with 404. known reports whether it does.
func (r *Repository) History(ctx context.Context, tag string) (list []Stood, known bool, err error) {
	q := r.request(http.MethodGet, "asking for the history of "+tag, "/_imbricat/tags/history?tag="+url.QueryEscape(tag), 200)
	resp, err := r.client.do(ctx, q)
	var answer *Error
	if errors.As(err, &answer) && !answer.Denied() {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	defer resp.Body.Close()
	body, err := r.readAll(q, resp, maxHistory)
	if err != nil {
		return nil, false, err
	}
	var told struct {
		History []Stood `json:"history"`
	}
	if json.Unmarshal(body, &told) != nil || told.History == nil {
		return nil, false, nil // something else is there
	}
	for _, one := range told.History {
		if _, err := digest.Parse(string(one.Digest)); err != nil && one.Digest != "" {
			return nil, false, fmt.Errorf("%s: %s: %w", r, q.op, err)
		}
	}
	return told.History, true, nil
}
