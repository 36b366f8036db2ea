package project

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"path"
	"regexp"
	"strings"

	"golang.org/x/net/html/charset"
)

// pom is what counts of a pom.xml.
type pom struct {
	text     []byte
	Group    string `xml:"groupId"`
	Artifact string `xml:"artifactId"`
	Parent   *struct {
		coordinates
		Path *string `xml:"relativePath"`
	} `xml:"parent"`
	Properties struct {
		All []struct {
			XMLName xml.Name
			Text    string `xml:",chardata"`
		} `xml:",any"`
	} `xml:"properties"`
	Dependencies []coordinates `xml:"dependencies>dependency"`
	profile
	Profiles []profile `xml:"profiles>profile"`
}

// profile is what a pom and each of its profiles may have.
type profile struct {
	Modules    []string      `xml:"modules>module"`
	More       []coordinates `xml:"dependencies>dependency"`
	Managed    []coordinates `xml:"dependencyManagement>dependencies>dependency"`
	Plugins    []plugin      `xml:"build>plugins>plugin"`
	Extensions []coordinates `xml:"build>extensions>extension"`
}

type plugin struct {
	coordinates
	Dependencies []coordinates `xml:"dependencies>dependency"`
}

// coordinates name a module.
type coordinates struct {
	Group    string `xml:"groupId"`
	Artifact string `xml:"artifactId"`
	Scope    string `xml:"scope"`
}

// xmlDecoder reads XML in the encodings that manifests have.
func xmlDecoder(text []byte) *xml.Decoder {
	d := xml.NewDecoder(bytes.NewReader(text))
	d.CharsetReader = charset.NewReaderLabel
	return d
}

// xmlMistake gives an error of an XML text its line.
func xmlMistake(file string, err error) error {
	var syntax *xml.SyntaxError
	if errors.As(err, &syntax) {
		return &lineError{place{file, syntax.Line}, errors.New(syntax.Msg)}
	}
	return err
}

// used lists what a pom uses of others.
func (j *pom) used() (all []coordinates) {
	all = append(all, j.Dependencies...)
	for _, one := range append([]profile{j.profile}, j.Profiles...) {
		all = append(append(all, one.More...), one.Extensions...)
		for _, managed := range one.Managed {
			if managed.Scope == "import" {
				all = append(all, managed)
			}
		}
		for _, p := range one.Plugins {
			all = append(append(all, p.coordinates), p.Dependencies...)
		}
	}
	return all
}

// modules lists the paths of the modules.
func (j *pom) modules() (all []string) {
	for _, one := range append([]profile{j.profile}, j.Profiles...) {
		all = append(all, one.Modules...)
	}
	return all
}

// maven links the modules of a repository.
type maven struct {
	*repository
	all        []*Package
	byFile     map[string]*Package
	byArtifact map[string][]*Package
	parsed     map[*Package]*pom
	parents    map[*Package]*Package
	broken     []*Package
}

// mavenModules reads pom.xml files. A module needs what its own pom and its parents' name, by group and artifact, whatever the version.
func mavenModules(r *repository) []*Package {
	all, parsed := each(r, r.named("pom.xml"), Maven, func(p *Package, text []byte) (*pom, error) {
		j := &pom{text: text}
		if err := xmlDecoder(text).Decode(j); err != nil {
			return nil, xmlMistake(p.Manifest, err)
		}
		p.Name = strings.TrimSpace(j.Artifact)
		return j, nil
	})
	m := &maven{r, all, map[string]*Package{}, map[string][]*Package{}, parsed, map[*Package]*Package{}, nil}
	for _, p := range all {
		m.byFile[p.Manifest] = p
		if parsed[p] == nil {
			m.broken = append(m.broken, p)
		}
	}
	for _, p := range all {
		m.parent(p)
	}
	for _, p := range all {
		if j := parsed[p]; j != nil {
			m.byArtifact[m.value(p, j.Artifact)] = append(m.byArtifact[m.value(p, j.Artifact)], p)
			p.also = append(p.also, m.group(p)+":"+p.Name)
		}
	}
	for _, p := range all {
		m.link(p)
	}
	m.reactors()
	return all
}

// parent finds the parent of a module in the repository.
func (m *maven) parent(p *Package) {
	j := m.parsed[p]
	if j == nil || j.Parent == nil {
		return
	}
	file := "../pom.xml"
	if j.Parent.Path != nil {
		file = strings.TrimSpace(*j.Parent.Path)
	}
	to := m.byFile[path.Join(p.Dir, file)]
	if to == nil {
		to = m.byFile[path.Join(p.Dir, file, "pom.xml")]
	}
	if file == "" || to == nil || to == p {
		return
	}
	if own := m.parsed[to]; own != nil && strings.TrimSpace(own.Artifact) != strings.TrimSpace(j.Parent.Artifact) {
		return // Maven looks elsewhere then
	}
	m.parents[p] = to
	p.needs = append(p.needs, need{at: place{p.Manifest, lineOf(j.text, "<parent>")}, name: "its parent", to: to, manifest: true, strict: true})
}

var property = regexp.MustCompile(`\$\{([^}]+)\}`)

// value works the properties of a text out, as far as they are known.
func (m *maven) value(p *Package, text string) string {
	text = strings.TrimSpace(text)
	for range 10 { // properties name others, and may do so in a circle
		next := property.ReplaceAllStringFunc(text, func(whole string) string {
			if value, known := m.property(p, whole[2:len(whole)-1]); known {
				return strings.TrimSpace(value)
			}
			return whole
		})
		if next == text || len(next) > 1000 {
			break
		}
		text = next
	}
	return text
}

// property returns a property of a module or its parents.
func (m *maven) property(p *Package, name string) (string, bool) {
	for _, prefix := range []string{"project.", "pom."} {
		switch rest, is := strings.CutPrefix(name, prefix); {
		case !is || m.parsed[p] == nil:
		case rest == "groupId":
			return m.group(p), true
		case rest == "artifactId":
			return m.parsed[p].Artifact, true
		case rest == "parent.groupId" && m.parsed[p].Parent != nil:
			return m.parsed[p].Parent.Group, true
		case rest == "parent.artifactId" && m.parsed[p].Parent != nil:
			return m.parsed[p].Parent.Artifact, true
		}
	}
	for depth := 0; p != nil && depth < 100; depth++ {
		if j := m.parsed[p]; j != nil {
			for _, one := range j.Properties.All {
				if one.XMLName.Local == name {
					return one.Text, true
				}
			}
		}
		p = m.parents[p]
	}
	return "", false
}

func (m *maven) group(p *Package) string {
	j := m.parsed[p]
	switch {
	case j == nil:
		return ""
	case j.Group == "" && j.Parent != nil:
		return strings.TrimSpace(j.Parent.Group)
	}
	return strings.TrimSpace(j.Group)
}

// link finds what a module needs.
func (m *maven) link(p *Package) {
	j := m.parsed[p]
	if j == nil {
		return
	}
	for _, one := range j.used() {
		artifact, group := m.value(p, one.Artifact), m.value(p, one.Group)
		at := place{p.Manifest, lineOf(j.text, "<artifactId>", strings.TrimSpace(one.Artifact))}
		if strings.Contains(artifact, "${") {
			p.Failure = at.errorf("what %s stands for is not known", one.Artifact)
			return
		}
		var fits []*Package
		for _, other := range m.byArtifact[artifact] {
			if own := m.value(other, m.group(other)); own == group || strings.Contains(own+group, "${") {
				fits = append(fits, other)
			}
		}
		switch {
		case len(fits) > 1:
			p.Failure = at.errorf("%s and %s are both %s:%s", fits[0].Manifest, fits[1].Manifest, group, artifact)
		case len(fits) == 1 && fits[0] != p:
			p.needs = append(p.needs, need{at: at, name: artifact, to: fits[0], strict: true})
		case len(fits) == 0:
			for _, other := range m.broken { // it may be the one
				p.needs = append(p.needs, need{at: at, name: artifact, to: other})
			}
		}
	}
}

// reactors has modules read with the poms that list them, and all that these list: Maven reads them all.
func (m *maven) reactors() {
	lists := map[*Package][]*Package{}
	for _, top := range m.all {
		j := m.parsed[top]
		if j == nil {
			continue
		}
		for _, module := range j.modules() {
			file := path.Join(top.Dir, m.value(top, module))
			to := m.byFile[file]
			if to == nil {
				to = m.byFile[path.Join(file, "pom.xml")]
			}
			if to != nil {
				lists[top] = append(lists[top], to)
				continue
			}
			top.needs = append(top.needs, need{at: place{top.Manifest, lineOf(j.text, "<module>", strings.TrimSpace(module))}, name: fmt.Sprintf("the module %s", strings.TrimSpace(module))})
		}
	}
	for _, top := range m.all {
		if len(lists[top]) == 0 {
			continue
		}
		all, seen := []*Package{top}, map[*Package]bool{top: true}
		for i := 0; i < len(all); i++ {
			for _, p := range lists[all[i]] {
				if !seen[p] {
					seen[p] = true
					all = append(all, p)
				}
			}
		}
		for _, p := range all {
			p.along = append(p.along, all...)
			p.own = append(p.own, m.some(top.Dir, ".mvn", "mvnw", "mvnw.cmd")...)
			p.group = string(Maven)
		}
	}
	for _, p := range m.all {
		p.own = append(p.own, m.some(p.Dir, ".mvn", "mvnw", "mvnw.cmd")...)
	}
}
