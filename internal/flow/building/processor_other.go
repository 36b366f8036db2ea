//go:build !unix

package building

import "time"

// processorTime is not known here.
func processorTime() time.Duration { return 0 }
