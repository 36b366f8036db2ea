// Package machine tells what this machine is: its system, its kernel, and what of it the program may use. It tries nothing out.
package machine

import (
	"os"
	"runtime"
	"strings"

	"github.com/magiconair/properties"
)

// Machine is what is known of this machine; what nobody tells is empty.
type Machine struct {
	Name       string
	System     string // its distribution, with the version
	Kernel     string
	Processors int // that the program may use
	Root       bool
}

// Here returns what this machine is.
func Here() Machine {
	m := Machine{System: system(), Kernel: kernel(), Processors: runtime.GOMAXPROCS(0), Root: os.Geteuid() == 0}
	m.Name, _ = os.Hostname() // a machine without a name has none
	return m
}

// system is the distribution, by the file that distributions have for it.
func system() string {
	for _, name := range []string{"/etc/os-release", "/usr/lib/os-release"} {
		if text, err := os.ReadFile(name); err == nil {
			return distribution(text)
		}
	}
	return ""
}

func distribution(text []byte) string {
	said, err := properties.Load(text, properties.UTF8)
	if err != nil {
		return ""
	}
	return strings.Trim(said.GetString("PRETTY_NAME", said.GetString("NAME", "")), `"'`)
}
