//go:build !windows

package layout

import "os"

// syncFolder makes a rename in the folder last over a loss of power.
func syncFolder(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}
