package ship

import (
	"context"
	"fmt"

	"imbricat/internal/engine/check"
	"imbricat/internal/flow/push"
	"imbricat/internal/ground/digest"
	"imbricat/internal/spec/plan"
)

// pushForALook pushes the images of which a check does not hold to where the recipe has them looked at, by digest alone.
func (r *Run) pushForALook(ctx context.Context, made func(name string) (digest.Descriptor, error)) error {
	failing := map[string]bool{}
	for _, c := range r.k.Receipt.Checks {
		failing[c.Image] = failing[c.Image] || c.Outcome != check.Holds
	}
	for _, i := range r.w.Plan.Images {
		seen := map[string]bool{}
		for _, d := range i.Destinations {
			if !failing[i.Name] || d.OnFailure.Host == "" || seen[d.OnFailure.String()] {
				continue
			}
			seen[d.OnFailure.String()] = true
			desc, err := made(i.Name)
			if err != nil {
				return err
			}
			r.looks = append(r.looks, &push.Shipment{Image: i.Name, Index: desc, Descriptor: desc, OnFailure: true, To: plan.Destination{Name: d.Name, Repository: d.OnFailure}})
		}
	}
	part := "" // where the run stopped is told by the checks
	if err := push.Send(ctx, r.w, r.looks, r.o.Moves, r.sink, &part); err != nil {
		return fmt.Errorf("pushing for a look: %w", err)
	}
	return nil
}
