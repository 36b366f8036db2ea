package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/adrg/xdg"
	"go.yaml.in/yaml/v3"
)

// config is what a person chooses for every project, in imbricat/config.yaml of the user's configuration folder.
type config struct {
	Cache struct {
		Share string `yaml:"share"`
		Mode  string `yaml:"mode"`
	} `yaml:"cache"`
}

func configFile() string { return filepath.Join(xdg.ConfigHome, "imbricat", "config.yaml") }

// readConfig reads the user's configuration; without the file there is nothing in it.
func readConfig() (config, error) {
	var c config
	f, err := os.Open(configFile())
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err == nil {
		defer f.Close()
		decoder := yaml.NewDecoder(f)
		decoder.KnownFields(true)
		if err = decoder.Decode(&c); err != nil && err.Error() == "EOF" {
			err = nil
		}
	}
	if err == nil && c.Cache.Mode != "" && c.Cache.Mode != "read" && c.Cache.Mode != "write" && c.Cache.Mode != "both" {
		err = fmt.Errorf("cache: mode: cannot be %q: read, write or both", c.Cache.Mode)
	}
	if err != nil {
		return c, usagef("%s: %w", configFile(), err)
	}
	return c, nil
}
