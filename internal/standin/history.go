package standin

import (
	"encoding/json"
	"math"
	"net/http"
	"net/url"
	"strings"
	"time"
	"unicode"

	"imbricat/internal/ground/digest"
)

// reasonHeader tells why a tag is written, percent-encoded.
const reasonHeader = "Imbricat-Reason"

// maxReason bounds what is kept of a reason, in bytes.
const maxReason = 1000

// reasonOf returns why a tag is written, as whoever writes it says; one line of letters, whatever was sent.
func reasonOf(r *http.Request) string {
	text, err := url.PathUnescape(r.Header.Get(reasonHeader))
	if err != nil {
		return ""
	}
	text = strings.Map(func(c rune) rune {
		if !unicode.IsPrint(c) {
			return ' '
		}
		return c
	}, strings.ToValidUTF8(text, "?"))
	return text[:min(len(text), maxReason)]
}

// stood is what a tag stood on from a time on.
type stood struct {
	Time   time.Time     `json:"time"`
	Digest digest.Digest `json:"digest,omitempty"` // empty: the tag was deleted
	Who    string        `json:"who,omitempty"`
	Why    string        `json:"why,omitempty"`
}

// tagHistory answers what a tag stood on, as far as the events reach back: an extension as the distribution-spec has them.
func (x *exchange) tagHistory() error {
	if x.r.Method != http.MethodGet && x.r.Method != http.MethodHead {
		return x.unsupported()
	}
	if err := x.may(pull); err != nil {
		return err
	}
	tag := x.r.URL.Query().Get("tag")
	if !isTag(tag) {
		return refuse(http.StatusBadRequest, "TAG_INVALID", "give a tag as ?tag=")
	}
	events, err := x.server.journal.list(math.MaxInt, func(e Event) bool {
		return e.Repository == x.repository && (e.Tag == tag && (e.What == "push" || e.What == "delete") || e.Tag == "" && e.What == "delete")
	})
	if err != nil {
		return err
	}
	list := []stood{}
	for _, e := range events {
		last := len(list) - 1
		switch {
		case e.What == "push" && (last < 0 || list[last].Digest != e.Digest):
			list = append(list, stood{e.Time, e.Digest, e.Who, e.Why})
		case e.What == "delete" && last >= 0 && list[last].Digest != "" && (e.Tag == tag || e.Digest == list[last].Digest):
			list = append(list, stood{Time: e.Time, Who: e.Who})
		}
	}
	x.w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(x.w).Encode(map[string][]stood{"history": list})
}
