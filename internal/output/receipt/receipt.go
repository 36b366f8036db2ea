// Package receipt is the machine-readable result of a build, a push or a pipeline's run, as a documented JSON document
// and as KEY=VALUE lines.
//
// It encodes, decodes and checks receipts. It writes no file, asks no registry and never decides what happens next.
package receipt

import (
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/reference"
)

// Version is the format that this program reads and writes.
const Version = 1

// MediaType is what a receipt is called in a registry.
const MediaType = "application/vnd.imbricat.receipt.v1+json"

// Max bounds a receipt, in bytes.
const Max = 32 << 20

// Schema is the JSON Schema of a receipt.
//
//go:embed schema.json
var Schema []byte

// Outcomes of a run.
const (
	Done        = "done"
	Nothing     = "nothing" // there was nothing to do; Why tells the reason
	Failed      = "failed"
	Interrupted = "interrupted"
)

// Receipt is the result of one run. Times are in UTC, sizes in bytes.
type Receipt struct {
	Version  int               `json:"receipt"`
	Command  string            `json:"command"` // build, push, ship, join or promote
	Outcome  string            `json:"outcome"`
	Why      string            `json:"why,omitempty"`     // of an outcome nothing
	Stopped  *Stop             `json:"stopped,omitempty"` // of an outcome failed or interrupted
	Program  string            `json:"program"`           // that wrote it, with its version
	Began    time.Time         `json:"began"`
	Seconds  float64           `json:"seconds"`
	Recipe   *Recipe           `json:"recipe,omitempty"`
	Revision *Revision         `json:"revision,omitempty"` // what version control tells
	Run      string            `json:"run,omitempty"`      // the pipeline's number of the run
	Facts    map[string]string `json:"facts,omitempty"`    // that are the same for all platforms
	Images   []Image           `json:"images"`
	Left     []Left            `json:"left,omitempty"` // images that were not shipped though others were
	Checks   []Check           `json:"checks,omitempty"`
	Steps    []Step            `json:"steps,omitempty"`
	Ran      int               `json:"ran"`
	Reused   int               `json:"reused"`
	Spared   float64           `json:"spared"` // seconds that reused steps took when they were done
	Warnings []Warning         `json:"warnings"`
	Shared   *Shared           `json:"shared,omitempty"`
	Build    int64             `json:"build,omitempty"` // its number in the logbook
	Machine  *Machine          `json:"machine,omitempty"`
	Notified []Notified        `json:"notified,omitempty"` // who was told of the run
}

// Machine is where a run was, for who looks into why it went as it did.
type Machine struct {
	Name       string `json:"name"`
	Platform   string `json:"platform"`
	System     string `json:"system,omitempty"` // its distribution, with the version
	Kernel     string `json:"kernel,omitempty"`
	Processors int    `json:"processors"` // that the run may use
	User       string `json:"user"`       // root or ordinary
	Sandbox    string `json:"sandbox"`    // how commands are kept apart: root, mapped, single or chroot; or why they cannot be run
	Go         string `json:"go"`         // that the program was built with
}

// Notified is an address that was told of a run. The address is without its query.
type Notified struct {
	To       string `json:"to"`
	Signed   bool   `json:"signed"`
	Delivery string `json:"delivery,omitempty"` // as the header tells it
	Tries    int    `json:"tries"`
	Status   int    `json:"status,omitempty"` // of the last answer
	Error    string `json:"error,omitempty"`  // why it was not told
}

// Stop tells where a run stopped. Exit is the exit code.
type Stop struct {
	Part    string `json:"part"` // recipe, lock, destinations, build, checks, push or tags
	Message string `json:"message"`
	Exit    int    `json:"exit"`
}

// Left is an image that was left behind.
type Left struct {
	Image   string `json:"image"`
	Part    string `json:"part"` // at which it failed: build or checks
	Message string `json:"message"`
}

// Recipe names what was built from. Lock is empty where there was none.
type Recipe struct {
	File   string        `json:"file"`
	Digest digest.Digest `json:"digest"`
	Lock   digest.Digest `json:"lock,omitempty"`
}

// Revision is what version control tells of the sources.
type Revision struct {
	Commit string `json:"commit"`
	Branch string `json:"branch,omitempty"`
	Tag    string `json:"tag,omitempty"`
	Source string `json:"source,omitempty"`
	Dirty  *bool  `json:"dirty,omitempty"` // nil: nobody asked
}

// Image is an image over its platforms. Digest is that of the index.
type Image struct {
	Name         string        `json:"name"`
	Digest       digest.Digest `json:"digest"`
	MediaType    string        `json:"mediaType"`
	Size         int64         `json:"size"` // of the index itself
	Created      *time.Time    `json:"created,omitempty"`
	Platforms    []Platform    `json:"platforms"`
	Destinations []Destination `json:"destinations"`
}

// At is the digest of what went to a destination of the image; empty where that is for a platform that the image lacks.
func (i Image) At(d Destination) digest.Digest {
	if d.Platform == "" {
		return i.Digest
	}
	for _, p := range i.Platforms {
		if p.Platform == d.Platform {
			return p.Digest
		}
	}
	return ""
}

// Platform is an image for one platform. Packed counts its layers as they are stored.
type Platform struct {
	Platform string        `json:"platform"`
	Digest   digest.Digest `json:"digest"`
	Layers   int           `json:"layers,omitempty"`
	Packed   int64         `json:"packed,omitempty"`
}

// Destination is where an image went. Blobs are counted; manifests are not.
type Destination struct {
	Name       string `json:"name,omitempty"`
	Repository string `json:"repository"`
	Platform   string `json:"platform,omitempty"`  // whose image went there; empty: the index over all platforms
	Reference  string `json:"reference,omitempty"` // REPOSITORY@DIGEST, once all content is there
	// Tags stand on the image; Wanted are those that were to, Held those that were not, Fixed are patterns of tags that
	// never move, and Prefixes are the moving prefixes of a version among the wanted ones.
	Tags     []string `json:"tags"`
	Wanted   []string `json:"wanted"`
	Held     []Held   `json:"held,omitempty"`
	Fixed    []string `json:"fixed,omitempty"`
	Prefixes []string `json:"prefixes,omitempty"`
	// Requires are platforms without which no index gets the tags.
	Requires []string `json:"requires,omitempty"`
	// OnFailure is that it went there for a look, since a check of it does not hold.
	OnFailure bool `json:"onFailure,omitempty"`

	Sent         int     `json:"sent"`
	SentBytes    int64   `json:"sentBytes"`
	Mounted      int     `json:"mounted"` // taken over from another repository of the registry
	MountedBytes int64   `json:"mountedBytes"`
	Skipped      int     `json:"skipped"` // that were there already
	SkippedBytes int64   `json:"skippedBytes"`
	Seconds      float64 `json:"seconds"`
}

// Held is a tag that was not written, with the reason.
type Held struct {
	Tag string `json:"tag"`
	Why string `json:"why"`
}

// Check is what became of a check of the recipe.
type Check struct {
	Image    string  `json:"image"`
	Platform string  `json:"platform"`
	Check    string  `json:"check"`   // size at most 40 MB
	Outcome  string  `json:"outcome"` // holds, fails or unable
	Detail   string  `json:"detail"`
	Seconds  float64 `json:"seconds"`
	// Found is when an earlier run found that it holds, and it was not held again; nil: this one did.
	Found *time.Time `json:"found,omitempty"`
	Position
}

// Position is where the recipe has something.
type Position struct {
	File   string `json:"file,omitempty"`
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
}

// PositionAt makes a position of a place.
func PositionAt(file string, line, column int) Position {
	return Position{File: file, Line: line, Column: column}
}

// Step is a step of a build.
type Step struct {
	Unit     string        `json:"unit"`
	Platform string        `json:"platform"`
	Place    string        `json:"place"` // gauge:3
	Step     string        `json:"step"`
	Outcome  string        `json:"outcome"`
	Reason   string        `json:"reason"`
	Files    int           `json:"files"`
	Bytes    int64         `json:"bytes"`
	Layer    digest.Digest `json:"layer,omitempty"`
	Packed   int64         `json:"packed,omitempty"`
	Seconds  float64       `json:"seconds"`
	Spared   float64       `json:"spared,omitempty"`
	Position               // of one that failed

	// Of a command that ran:
	Failed    int     `json:"failed,omitempty"`    // how often it failed before it ended well
	Processor float64 `json:"processor,omitempty"` // seconds
	Memory    int64   `json:"memory,omitempty"`    // bytes that the largest of its processes had at once
	Before    *Used   `json:"before,omitempty"`    // what the same command took last time on this machine

	// Reached is what a command reached of the hosts that its step lists, and what it asked for besides, whenever it ran.
	Reached []Reached `json:"reached,omitempty"`
}

// Reached is a host, or a file that plain HTTP brought, to which a command asked to be connected.
type Reached struct {
	To      string        `json:"to"`    // HOST:PORT, or an address without its query
	Times   int           `json:"times"` // how often
	Bytes   int64         `json:"bytes"` // that came from there
	Status  int           `json:"status,omitempty"`
	Content digest.Digest `json:"content,omitempty"` // of what came; empty: only the command sees it, or it did not come whole
	Problem string        `json:"problem,omitempty"` // "not listed" or "unreachable"
}

// Used is what a command took.
type Used struct {
	Seconds   float64 `json:"seconds"`
	Processor float64 `json:"processor"` // seconds
	Memory    int64   `json:"memory,omitempty"`
}

// Warning is a doubt that did not stop the work.
type Warning struct {
	Code string `json:"code"`
	Text string `json:"text"`
}

// Shared is what was asked of the shared cache, and the bytes that were moved.
type Shared struct {
	Place    string `json:"place"`
	Requests int    `json:"requests"`
	Read     int64  `json:"read"`
	Written  int64  `json:"written"`
}

// ErrMalformed is wrapped by errors about receipts that are not whole, or make no sense.
var ErrMalformed = errors.New("not a whole receipt")

// Encode returns a receipt as JSON, the same bytes for the same receipt.
func (r *Receipt) Encode() ([]byte, error) {
	r.Complete()
	text, err := json.MarshalIndent(r, "", "  ")
	return append(text, '\n'), err
}

// Complete gives the version and the lists that must be there, also where they are empty.
func (r *Receipt) Complete() {
	r.Version = Version
	if r.Images == nil {
		r.Images = []Image{}
	}
	if r.Warnings == nil {
		r.Warnings = []Warning{}
	}
	for i := range r.Images {
		one := &r.Images[i]
		if one.Platforms == nil {
			one.Platforms = []Platform{}
		}
		if one.Destinations == nil {
			one.Destinations = []Destination{}
		}
		for n := range one.Destinations {
			if to := &one.Destinations[n]; to.Tags == nil {
				to.Tags = []string{}
			}
			if to := &one.Destinations[n]; to.Wanted == nil {
				to.Wanted = []string{}
			}
		}
	}
}

// Decode reads a receipt and checks it. name is for messages.
func Decode(name string, in io.Reader) (*Receipt, error) {
	text, err := io.ReadAll(io.LimitReader(in, Max+1))
	if err != nil {
		return nil, fmt.Errorf("reading the receipt %s: %w", name, err)
	}
	malformed := func(format string, values ...any) error {
		return fmt.Errorf("%s is %w: %s", name, ErrMalformed, fmt.Sprintf(format, values...))
	}
	if len(text) > Max {
		return nil, malformed("it has more than %d bytes", Max)
	}
	r := &Receipt{}
	if err := json.Unmarshal(text, r); err != nil {
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) && syntax.Offset >= int64(len(text)) {
			return nil, malformed("it ends in the middle, so whoever wrote it did not finish")
		}
		return nil, malformed("%s", strings.TrimPrefix(err.Error(), "json: "))
	}
	if r.Version != Version {
		if r.Version == 0 {
			return nil, malformed("it does not say \"receipt\": %d", Version)
		}
		return nil, fmt.Errorf("%s has format %d; this version of imbricat reads format %d: %w", name, r.Version, Version, ErrMalformed)
	}
	if err := r.check(); err != nil {
		return nil, malformed("%s", err)
	}
	return r, nil
}

func (r *Receipt) check() error {
	if !slices.Contains([]string{Done, Nothing, Failed, Interrupted}, r.Outcome) {
		return fmt.Errorf("its outcome is %q", r.Outcome)
	}
	for _, i := range r.Images {
		if _, err := digest.Parse(string(i.Digest)); err != nil {
			return fmt.Errorf("the image %q: %w", i.Name, err)
		}
		for _, p := range i.Platforms {
			if _, err := digest.Parse(string(p.Digest)); err != nil {
				return fmt.Errorf("the image %q for %s: %w", i.Name, p.Platform, err)
			}
		}
		for _, d := range i.Destinations {
			if _, err := reference.ParseRepository(d.Repository); err != nil {
				return fmt.Errorf("the image %q: %w", i.Name, err)
			}
			for _, tag := range slices.Concat(d.Tags, d.Wanted) {
				if err := reference.CheckTag(tag); err != nil {
					return fmt.Errorf("the image %q: %w", i.Name, err)
				}
			}
			at := i.At(d)
			if at == "" {
				return fmt.Errorf("the image %q: %s is not among its platforms", i.Name, d.Platform)
			}
			if d.Reference != "" && d.Reference != d.Repository+"@"+string(at) {
				return fmt.Errorf("the image %q: %s is not %s@%s", i.Name, d.Reference, d.Repository, at)
			}
		}
	}
	return nil
}

// Finished tells why others cannot go on from a receipt; nil where they can.
func (r *Receipt) Finished() error {
	switch {
	case r.Outcome == Done:
		return nil
	case r.Stopped != nil:
		return fmt.Errorf("it tells of a run that stopped at its part %q: %s", r.Stopped.Part, r.Stopped.Message)
	case r.Why != "":
		return fmt.Errorf("it tells of a run that did nothing: %s", r.Why)
	}
	return fmt.Errorf("it tells of a run whose outcome is %q", r.Outcome)
}

var unfit = regexp.MustCompile(`[^A-Z0-9]+`)

// key makes a name for the shell of words.
func key(words ...string) string {
	return "RECEIPT_" + strings.Trim(unfit.ReplaceAllString(strings.ToUpper(strings.Join(words, "_")), "_"), "_")
}

// Lines returns what other programs ask for most as KEY=VALUE lines, which a shell can read too: no value has a blank or a
// sign that means something there. Several values have commas between them.
func (r *Receipt) Lines() string {
	var out strings.Builder
	line := func(name, value string) {
		if value != "" && !strings.ContainsAny(value, " \t\r\n'\"$`\\;&|<>()*?[]#~!{}") {
			fmt.Fprintf(&out, "%s=%s\n", name, value)
		}
	}
	line("RECEIPT_OUTCOME", r.Outcome)
	if r.Stopped != nil {
		line("RECEIPT_STOPPED", r.Stopped.Part)
	}
	line("RECEIPT_RUN", r.Run)
	if r.Revision != nil {
		line("RECEIPT_COMMIT", r.Revision.Commit)
	}
	for _, i := range r.Images {
		line(key(i.Name, "digest"), string(i.Digest))
		for _, p := range i.Platforms {
			line(key(i.Name, "digest", p.Platform), string(p.Digest))
		}
		for n, d := range i.Destinations {
			words := []string{i.Name}
			if n > 0 {
				words = append(words, d.Name)
			}
			if d.Platform != "" {
				words = append(words, d.Platform)
			}
			line(key(append(words, "reference")...), d.Reference)
			line(key(append(words, "tags")...), strings.Join(d.Tags, ","))
		}
	}
	return out.String()
}
