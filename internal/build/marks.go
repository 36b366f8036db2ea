package build

import (
	"bytes"
	"debug/elf"
	"encoding/binary"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/plan"
	"imbricat/internal/tree"
)

// mark is what a look at the start of a file tells, for warnings: nothing, "elf:ARCHITECTURE" for a program, or "secret"
// for what is likely one. It has no blanks.
type mark string

const secretMark mark = "secret"

// machines are the processors that programs are made for, in the words of platforms.
var machines = map[elf.Machine]string{
	elf.EM_X86_64: "amd64", elf.EM_386: "386", elf.EM_AARCH64: "arm64", elf.EM_ARM: "arm", elf.EM_RISCV: "riscv64",
	elf.EM_S390: "s390x", elf.EM_PPC64: "ppc64le", elf.EM_LOONGARCH: "loong64", elf.EM_MIPS: "mips",
}

// runsToo are programs that an architecture runs beside its own.
var runsToo = map[string][]string{"amd64": {"386"}, "arm64": {"arm"}}

// tokens are the forms of secrets that are unmistakable: private keys, and tokens with a prefix that their issuers chose
// so that they are found. The plain words are searched first, which is fast.
var tokens = []struct {
	words []string
	form  *regexp.Regexp
}{
	{[]string{"PRIVATE KEY"}, regexp.MustCompile(`-----BEGIN ([A-Z0-9]+ )*PRIVATE KEY( BLOCK)?-----\s`)},
	{[]string{"AKIA"}, regexp.MustCompile(`\bAKIA[0-9A-Z]{16}\b`)},
	{[]string{"ghp_", "gho_", "ghs_"}, regexp.MustCompile(`\bgh[pos]_[A-Za-z0-9]{36}\b`)},
	{[]string{"glpat-"}, regexp.MustCompile(`\bglpat-[A-Za-z0-9_-]{20}\b`)},
	{[]string{"xoxb-", "xoxp-"}, regexp.MustCompile(`\bxox[bp]-[0-9A-Za-z-]{20,}`)},
}

// secretNames are files that hold secrets by their purpose.
var secretNames = []string{".netrc", ".pgpass", ".htpasswd", "id_rsa", "id_dsa", "id_ecdsa", "id_ed25519", "credentials.json"}

// maxSecret is how far into a file secrets are looked for, in bytes.
const maxSecret = 64 << 10

// markOf looks at the name and the first bytes of a file.
func markOf(name string, start []byte) mark {
	if len(start) >= 20 && bytes.HasPrefix(start, []byte(elf.ELFMAG)) {
		return markOfProgram(start)
	}
	if len(start) == 0 {
		return ""
	}
	if slices.Contains(secretNames, path.Base(name)) {
		return secretMark
	}
	// Secrets are texts, and not long.
	if start = start[:min(len(start), maxSecret)]; bytes.IndexByte(start[:min(len(start), 1024)], 0) >= 0 {
		return ""
	}
	for _, t := range tokens {
		for _, word := range t.words {
			if bytes.Contains(start, []byte(word)) && t.form.Match(start) {
				return secretMark
			}
		}
	}
	return ""
}

func markOfProgram(start []byte) mark {
	var order binary.ByteOrder = binary.LittleEndian
	if elf.Data(start[elf.EI_DATA]) == elf.ELFDATA2MSB {
		order = binary.BigEndian
	}
	kind, machine := elf.Type(order.Uint16(start[16:])), elf.Machine(order.Uint16(start[18:]))
	if name, known := machines[machine]; known && (kind == elf.ET_EXEC || kind == elf.ET_DYN) {
		return mark("elf:" + name)
	}
	return ""
}

// doubts are what warnings are made of: for each code the paths concerned.
type doubts map[string][]string

// doubtsOf looks at what a step lays down. Programs are named with their architecture, "PATH for ARCHITECTURE".
func (b *builder) doubtsOf(entries []tree.Entry) doubts {
	found := doubts{}
	for i := range entries {
		e := &entries[i]
		switch {
		case e.Kind != tree.File && e.Kind != tree.Folder:
			continue
		case e.Kind == tree.File && e.Mode&0o6000 != 0:
			found.add(event.SetUID, "/"+e.Path)
		}
		if e.Mode&0o002 != 0 && e.Mode&0o1000 == 0 {
			found.add(event.WorldWritable, "/"+e.Path)
		}
		if e.Kind != tree.File {
			continue
		}
		b.markMutex.Lock()
		m := b.marks[e.Content]
		b.markMutex.Unlock()
		if machine, program := strings.CutPrefix(string(m), "elf:"); program {
			found.add(event.ForeignBinary, "/"+e.Path+" for "+machine)
		} else if m == secretMark {
			found.add(event.Secret, "/"+e.Path)
		}
	}
	return found
}

func (d doubts) add(code, what string) { d[code] = append(d[code], what) }

// said is how warnings put their code into words.
var said = map[string]string{
	event.WorldWritable: "may be written by everybody",
	event.SetUID:        "runs with the rights of its owner or group",
	event.Secret:        "looks like a secret: a key or a token that everybody with the image can read",
}

// warn tells what is doubtful in what a step lays down, once for all that share it.
func (b *builder) warn(u *plan.Unit, step *plan.Step, found doubts) {
	for _, code := range []string{event.ForeignBinary, event.Secret, event.SetUID, event.WorldWritable} {
		paths := found[code]
		text := said[code]
		if code == event.ForeignBinary {
			paths, text = foreignTo(u, paths)
		}
		if len(paths) == 0 {
			continue
		}
		where := paths[0]
		if len(paths) > 1 {
			where += fmt.Sprintf(" (and %d more)", len(paths)-1)
		}
		b.warning(step, code, fmt.Sprintf("%s: %s %s", u.ID.Name, where, text))
	}
}

// foreignTo keeps the programs that an image cannot run. Stages are built from and not run, so they may hold any.
func foreignTo(u *plan.Unit, programs []string) ([]string, string) {
	var paths []string
	machine := ""
	own := u.ID.Platform.Architecture
	for _, p := range programs {
		path, architecture, _ := strings.Cut(p, " for ")
		if u.IsImage && u.ID.Platform.OS == "linux" && architecture != own && !slices.Contains(runsToo[own], architecture) {
			if paths = append(paths, path); machine == "" {
				machine = architecture
			}
		}
	}
	return paths, fmt.Sprintf("is a program for %s, and the image is for %s", machine, u.ID.Platform)
}

// warning sends a warning once, unless the recipe or the step silences it.
func (b *builder) warning(step *plan.Step, code, text string) {
	if slices.Contains(b.o.Plan.Silence, code) || step != nil && slices.Contains(step.Silence, code) {
		return
	}
	b.markMutex.Lock()
	told := b.told[code+text]
	b.told[code+text] = true
	b.markMutex.Unlock()
	if !told {
		b.o.Sink.Send(event.Warning{Code: code, Text: text})
	}
}

// mark keeps what a look at a file told, by its content.
func (b *builder) mark(content digest.Content, m mark) {
	if m == "" {
		return
	}
	b.markMutex.Lock()
	defer b.markMutex.Unlock()
	b.marks[content] = m
}
