//go:build !windows

package layout

import "os"

// syncFolder makes a rename in the folder last over a loss of power.
func syncFolder(dir string, sync func(*os.File) error) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return sync(f)
}
