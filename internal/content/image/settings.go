package image

import (
	"slices"
	"sort"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
)

// Settings are what a recipe says of how an image runs. Nil lists and empty texts were not given; an empty value in Env or Labels drops
// what is inherited under its name.
type Settings struct {
	Entrypoint []string
	Command    []string
	Env        map[string]string
	User       string
	WorkingDir string
	Ports      []string // NUMBER/PROTOCOL
	Volumes    []string
	NoPorts    bool // none are inherited
	NoVolumes  bool
	Labels     map[string]string
	StopSignal string
	Author     string // of the image, not of its base
}

// DefaultPath is the search path where an image names none.
const DefaultPath = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"

// With lays other settings over these, by the rules of Inherit.
func (s Settings) With(other Settings) Settings {
	if other.Entrypoint != nil {
		s.Entrypoint, s.Command = other.Entrypoint, nil
	}
	if other.Command != nil {
		s.Command = other.Command
	}
	s.Env, s.Labels = mergeMap(s.Env, other.Env), mergeMap(s.Labels, other.Labels)
	if other.NoPorts {
		s.NoPorts, s.Ports = true, nil
	}
	if other.NoVolumes {
		s.NoVolumes, s.Volumes = true, nil
	}
	s.Ports, s.Volumes = slices.Concat(s.Ports, other.Ports), slices.Concat(s.Volumes, other.Volumes)
	replace(&s.User, other.User)
	replace(&s.WorkingDir, other.WorkingDir)
	replace(&s.StopSignal, other.StopSignal)
	replace(&s.Author, other.Author)
	return s
}

// Inherit lays settings over those of a base: env and labels merge by name, ports and volumes add, an entrypoint
// clears an inherited command, all else replaces; what is dropped goes first. The base's own maps and lists are left as they are.
func Inherit(base v1.ImageConfig, s Settings) v1.ImageConfig {
	c := base
	if s.Entrypoint != nil {
		c.Entrypoint = s.Entrypoint
		c.Cmd = nil
	}
	if s.Command != nil {
		c.Cmd = s.Command
	}
	c.Env = mergeEnv(base.Env, s.Env)
	c.Labels = mergeMap(base.Labels, s.Labels)
	for key, value := range s.Labels {
		if value == "" {
			delete(c.Labels, key)
		}
	}
	if len(c.Labels) == 0 {
		c.Labels = nil
	}
	ports, volumes := base.ExposedPorts, base.Volumes
	if s.NoPorts {
		ports = nil
	}
	if s.NoVolumes {
		volumes = nil
	}
	c.ExposedPorts, c.Volumes = addKeys(ports, s.Ports), addKeys(volumes, s.Volumes)
	replace(&c.User, s.User)
	replace(&c.WorkingDir, s.WorkingDir)
	replace(&c.StopSignal, s.StopSignal)
	return c
}

func replace(to *string, with string) {
	if with != "" {
		*to = with
	}
}

// WithEnv lays variables (NAME=VALUE) over those of a base, so that each name is there once: programs differ in which of several they take.
func WithEnv(base, own []string) []string {
	all := slices.Clone(base)
	for _, pair := range own {
		name, _, _ := strings.Cut(pair, "=")
		at := slices.IndexFunc(all, func(e string) bool { return strings.HasPrefix(e, name+"=") })
		if at < 0 {
			all = append(all, pair)
			continue
		}
		all[at] = pair
	}
	return all
}

// mergeEnv keeps the base's order, replaces values in place, and appends new names in sorted order; empty values drop their names.
func mergeEnv(base []string, own map[string]string) []string {
	merged := make([]string, 0, len(base)+len(own))
	placed := map[string]bool{}
	for _, entry := range base {
		name, _, _ := strings.Cut(entry, "=")
		if value, replaced := own[name]; replaced {
			entry = name + "=" + value
			placed[name] = true
			if value == "" {
				continue
			}
		}
		merged = append(merged, entry)
	}
	var rest []string
	for name, value := range own {
		if !placed[name] && value != "" {
			rest = append(rest, name+"="+value)
		}
	}
	sort.Strings(rest)
	if merged = append(merged, rest...); len(merged) == 0 {
		return nil
	}
	return merged
}

func mergeMap(base, own map[string]string) map[string]string {
	if len(base)+len(own) == 0 {
		return nil
	}
	merged := make(map[string]string, len(base)+len(own))
	for key, value := range base {
		merged[key] = value
	}
	for key, value := range own {
		merged[key] = value
	}
	return merged
}

func addKeys(base map[string]struct{}, own []string) map[string]struct{} {
	if len(base)+len(own) == 0 {
		return nil
	}
	all := make(map[string]struct{}, len(base)+len(own))
	for key := range base {
		all[key] = struct{}{}
	}
	for _, key := range own {
		all[key] = struct{}{}
	}
	return all
}
