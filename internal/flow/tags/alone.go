package tags

import (
	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/transfer"
)

// mostWith bounds how many tags are named that share layers with an image: in a large repository nearly all do.
const mostWith = 20

// Cost is what a tag's image costs alone: bytes of layers that no image of another digest has. With are tags of those that share some, the
// first 20 of the inventory.
type Cost struct {
	Bytes int64
	With  []string
}

// Alone tells of each tag of an inventory what its image costs alone. Tags that stand on the same image share its cost.
func Alone(inventory *transfer.Inventory) []Cost {
	holders := map[digest.Digest]map[digest.Digest]bool{} // images by their layers
	for _, t := range inventory.Tags {
		for d := range t.Blobs {
			if holders[d] == nil {
				holders[d] = map[digest.Digest]bool{}
			}
			holders[d][t.Digest] = true
		}
	}
	costs := make([]Cost, len(inventory.Tags))
	for i, t := range inventory.Tags {
		others := map[digest.Digest]bool{}
		for d, size := range t.Blobs {
			if len(holders[d]) == 1 {
				costs[i].Bytes += size
				continue
			}
			for other := range holders[d] {
				others[other] = others[other] || other != t.Digest
			}
		}
		for _, other := range inventory.Tags {
			if others[other.Digest] && len(costs[i].With) < mostWith {
				costs[i].With = append(costs[i].With, other.Name)
			}
		}
	}
	return costs
}
