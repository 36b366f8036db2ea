//go:build !unix

package cli

import "time"

// processorTime is not known here.
func processorTime() time.Duration { return 0 }
