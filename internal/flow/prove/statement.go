package prove

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/registry"
)

// A statement of a proof is an unsigned statement of the in-toto attestation framework (https://github.com/in-toto/attestation, statement v1): its
// subjects are the images, its predicate tells what was varied and what was equal.
const (
	statementType = "https://in-toto.io/Statement/v1"
	predicateType = "urn:imbricat:reproduced:1"
	// StatementMediaType is what a statement is called in a registry.
	StatementMediaType = "application/vnd.in-toto+json"
)

// Statement says of images that they were made again and were equal.
type Statement struct {
	Type          string    `json:"_type"`
	Subject       []Subject `json:"subject"`
	PredicateType string    `json:"predicateType"`
	Predicate     Predicate `json:"predicate"`
}

// Subject is an image: its index, or what was published of it.
type Subject struct {
	Name   string            `json:"name"`
	Digest map[string]string `json:"digest"`
}

// Predicate tells how the images were made again.
type Predicate struct {
	Program  string             `json:"program"` // with its version
	Finished time.Time          `json:"finished"`
	Source   string             `json:"source,omitempty"`   // where the project's repository is
	Revision string             `json:"revision,omitempty"` // the commit
	Equal    string             `json:"equal"`              // what was: digest, layers or files; of several images the least
	Rounds   int                `json:"rounds"`
	Varied   []report.Condition `json:"varied"`
	Fixed    []report.Condition `json:"fixed,omitempty"`
	Unvaried []report.Condition `json:"unvaried,omitempty"`
	Needs    []report.Need      `json:"needs,omitempty"`
}

func subject(name string, d digest.Digest) Subject {
	return Subject{name, map[string]string{d.Algorithm().String(): d.Encoded()}}
}

// Of makes the statement of a proof that holds.
func Of(p *report.Proof, about Predicate) *Statement {
	about.Finished, about.Equal, about.Rounds = time.Now().UTC().Truncate(time.Second), report.EqualDigest, p.Rounds
	about.Varied, about.Fixed, about.Unvaried = p.Varied, p.Fixed, p.Unvaried
	s := &Statement{Type: statementType, PredicateType: predicateType, Predicate: about, Subject: []Subject{}}
	for _, i := range p.Images {
		s.Subject = append(s.Subject, subject(i.Name, i.Digest))
	}
	return s
}

// OfRebuilt makes the statement of published images that were made again, all of which hold.
func OfRebuilt(all []*report.Rebuilt, about Predicate) *Statement {
	s := &Statement{Type: statementType, PredicateType: predicateType, Predicate: about, Subject: []Subject{}}
	p := &s.Predicate
	p.Finished, p.Equal, p.Rounds = time.Now().UTC().Truncate(time.Second), report.EqualDigest, 1
	rank := map[string]int{report.EqualDigest: 2, report.EqualLayers: 1, report.EqualFiles: 0}
	for _, r := range all {
		s.Subject = append(s.Subject, subject(r.Reference, r.Digest))
		if rank[r.Equal] < rank[p.Equal] {
			p.Equal = r.Equal
		}
		p.Needs = append(p.Needs, r.Needs...)
		if len(r.Varied) > len(p.Varied) {
			p.Varied = r.Varied
		}
	}
	return s
}

// Encode returns the text of a statement.
func (s *Statement) Encode() ([]byte, error) {
	text, err := json.MarshalIndent(s, "", "  ")
	return append(text, '\n'), err
}

// Attach pushes a statement beside an image, as an artifact that refers to it. The image must be there.
func Attach(ctx context.Context, client *registry.Client, ref reference.Reference, d digest.Digest, s *Statement) (digest.Digest, error) {
	repository := client.Repository(ref.Host, ref.Repository)
	subject, _, err := repository.Manifest(ctx, string(d), image.Accepted)
	var answer *registry.Error
	if errors.As(err, &answer) && answer.NotFound() {
		return "", flow.Usagef("%s/%s has no image %s that a statement could be put beside: push it first", ref.Host, ref.Repository, d)
	}
	if err != nil {
		return "", err
	}
	text, err := s.Encode()
	if err != nil {
		return "", err
	}
	name, err := repository.PutArtifact(ctx, "", registry.Artifact{Type: StatementMediaType, Content: text, Subject: &subject,
		Annotations: map[string]string{"in-toto.io/predicate-type": predicateType, v1.AnnotationCreated: s.Predicate.Finished.Format(time.RFC3339)}})
	if err != nil {
		return "", fmt.Errorf("attaching the statement: %w", err)
	}
	return name, nil
}
