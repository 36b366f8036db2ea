// Package census finds out what the bytes of files are: programs and for which processors, likely secrets, and modes that
// are doubtful. It reads no files itself and warns of nothing.
package census

import (
	"bytes"
	"debug/elf"
	"encoding/binary"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"imbricat/internal/ground/digest"
)

// Class is what a look at the start of a file tells, for warnings: nothing, "elf:ARCHITECTURE" for a program, or "secret"
// for what is likely one. It has no blanks.
type Class string

// Secret is of what is likely a secret.
const Secret Class = "secret"

// programClass begins the classes of programs.
const programClass = "elf:"

// Program returns the architecture that a program is for; empty where it is none.
func (m Class) Program() string {
	architecture, is := strings.CutPrefix(string(m), programClass)
	if !is {
		return ""
	}
	return architecture
}

// Classes holds classes by the contents of files. Several goroutines may use it.
type Classes struct {
	mutex sync.Mutex
	known map[digest.Content]Class
}

// Note keeps the class of a content.
func (m *Classes) Note(content digest.Content, class Class) {
	if class == "" {
		return
	}
	m.mutex.Lock()
	defer m.mutex.Unlock()
	if m.known == nil {
		m.known = map[digest.Content]Class{}
	}
	m.known[content] = class
}

// Of returns the class of a content; of one that was never looked at it is empty.
func (m *Classes) Of(content digest.Content) Class {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	return m.known[content]
}

// NameDecides reports whether what a file is called counts for its class beside what it holds.
func NameDecides(name string) bool { return slices.Contains(secretNames, path.Base(name)) }

// machines are the processors that programs are made for, in the words of platforms.
var machines = map[elf.Machine]string{
	elf.EM_X86_64: "amd64", elf.EM_386: "386", elf.EM_AARCH64: "arm64", elf.EM_ARM: "arm", elf.EM_RISCV: "riscv64",
	elf.EM_S390: "s390x", elf.EM_PPC64: "ppc64le", elf.EM_LOONGARCH: "loong64", elf.EM_MIPS: "mips",
}

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

// MaxSecret is how far into a file secrets are looked for, in bytes.
const MaxSecret = 64 << 10

// ClassOf looks at the name and the first bytes of a file.
func ClassOf(name string, start []byte) Class {
	if name := Architecture(start); name != "" {
		return Class(programClass + name)
	}
	if len(start) == 0 {
		return ""
	}
	if NameDecides(name) {
		return Secret
	}
	// Secrets are texts, and not long.
	if start = start[:min(len(start), MaxSecret)]; bytes.IndexByte(start[:min(len(start), 1024)], 0) >= 0 {
		return ""
	}
	for _, t := range tokens {
		for _, word := range t.words {
			if bytes.Contains(start, []byte(word)) && t.form.Match(start) {
				return Secret
			}
		}
	}
	return ""
}

// Architecture is what a file that begins so is a program for, in the words of platforms; empty where it is no program for a processor that
// is known.
func Architecture(start []byte) string {
	if len(start) < 20 || !bytes.HasPrefix(start, []byte(elf.ELFMAG)) {
		return ""
	}
	var order binary.ByteOrder = binary.LittleEndian
	if elf.Data(start[elf.EI_DATA]) == elf.ELFDATA2MSB {
		order = binary.BigEndian
	}
	kind, machine := elf.Type(order.Uint16(start[16:])), elf.Machine(order.Uint16(start[18:]))
	if name, known := machines[machine]; known && (kind == elf.ET_EXEC || kind == elf.ET_DYN) {
		return name
	}
	return ""
}
