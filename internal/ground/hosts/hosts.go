// Package hosts is about the hosts that a command may reach: how a recipe writes them, and which addresses one stands for. It asks no
// network for anything.
package hosts

import (
	"errors"
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Pattern stands for the ports of a host, or of all hosts below a domain.
type Pattern struct {
	name  string // lower case, without a dot at its end
	below bool   // all that lie below it, and not it
	port  int    // 0: those of HTTP and HTTPS
}

// The ports that a pattern without one stands for.
const (
	HTTP  = 80
	HTTPS = 443
)

// longestName bounds a name, as DNS does, in characters.
const longestName = 253

// validName is what names of hosts are made of. Underscores are in use, though no standard allows them.
var validName = regexp.MustCompile(`^([a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?\.)*[a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?$`)

// Parse reads HOST, HOST:PORT, *.DOMAIN or *.DOMAIN:PORT. A host is a name or an IP address; one of IP version 6 with a port is written in
// brackets.
func Parse(text string) (p Pattern, err error) {
	name := text
	if _, err := netip.ParseAddr(text); err != nil && strings.Contains(text, ":") {
		host, port, err := net.SplitHostPort(text)
		switch {
		case strings.Contains(text, "/"):
			return p, errors.New("a host has no path and no scheme: write HOST or HOST:PORT")
		case err != nil:
			return p, errors.New("it is not HOST, HOST:PORT or *.DOMAIN")
		}
		if p.port, err = strconv.Atoi(port); err != nil || p.port < 1 || p.port > 65535 {
			return p, errors.New("its port is not a number from 1 to 65535")
		}
		name = host
	}
	name, p.below = strings.CutPrefix(Name(name), "*.")
	address, addressErr := netip.ParseAddr(name)
	switch isAddress := addressErr == nil; {
	case Itself(name):
		return p, errors.New("inside of the sandbox that is the command itself, which it always reaches")
	case isAddress && !p.below:
		name = address.String()
	case isAddress:
		return p, errors.New("nothing lies below an address")
	case len(name) > longestName || !validName.MatchString(name):
		return p, errors.New("it is not HOST, HOST:PORT or *.DOMAIN")
	case p.below && !strings.Contains(name, "."):
		return p, errors.New("it stands for too much: name a domain of two parts or more")
	}
	p.name = name
	return p, nil
}

// Itself reports whether a host that a command names is the command itself.
func Itself(host string) bool {
	name := Name(host)
	address, err := netip.ParseAddr(name)
	if err != nil {
		return name == "localhost" || strings.HasSuffix(name, ".localhost")
	}
	return address.IsUnspecified() || address.Unmap().IsLoopback()
}

// Name is a host's name as it is compared.
func Name(host string) string {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	if address, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil {
		return address.String()
	}
	return host
}

// String is the pattern as Parse reads it.
func (p Pattern) String() string {
	name := p.name
	if p.below {
		name = "*." + name
	}
	if p.port == 0 {
		return name
	}
	return net.JoinHostPort(name, strconv.Itoa(p.port))
}

// Matches reports whether a pattern stands for a port of a host.
func (p Pattern) Matches(host string, port int) bool {
	if p.port != port && (p.port != 0 || port != HTTP && port != HTTPS) {
		return false
	}
	if host = Name(host); p.below {
		return strings.HasSuffix(host, "."+p.name)
	}
	return host == p.name
}

// List is the hosts that a command may reach.
type List []Pattern

// ParseList reads patterns.
func ParseList(texts []string) (list List, err error) {
	for _, text := range texts {
		p, err := Parse(text)
		if err != nil {
			return nil, errors.New(strconv.Quote(text) + ": " + err.Error())
		}
		list = append(list, p)
	}
	return list, nil
}

// Allows reports whether a port of a host is one of the list's.
func (l List) Allows(host string, port int) bool {
	return slices.ContainsFunc(l, func(p Pattern) bool { return p.Matches(host, port) })
}
