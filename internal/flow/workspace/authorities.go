package workspace

import (
	"imbricat/internal/ground/files"
)

// Authorities returns the certificates that commands are to believe besides those of their images, as PEM text: those of the settings, and of
// the files that the recipe names.
func (p *Planned) Authorities(personal []byte) ([]byte, error) {
	all := append([]byte{}, personal...)
	for _, one := range p.Recipe.Authorities {
		certificates, err := p.certificates(one.File)
		if err != nil {
			return nil, p.Recipe.File.Problem(one.Pos, "authorities: %s: %s", one.File, err)
		}
		all = append(all, certificates...)
	}
	return all, nil
}

func (p *Planned) certificates(name string) ([]byte, error) {
	f, err := files.OpenRegularIn(p.Dir, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return files.Certificates(f)
}
