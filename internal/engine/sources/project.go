package sources

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"

	"imbricat/internal/content/census"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/once"
	"imbricat/internal/spec/plan"
)

// options are those of the walk.
func options(s plan.Source) tree.PickOptions {
	return tree.PickOptions{LeaveOut: s.LeaveOut, Structure: s.Structure, In: s.In, Follow: s.Follow, Attributes: s.Attributes}
}

// Project is the project folder as one build sees it.
type Project struct {
	Folder    *tree.Source
	memory    *Memory
	marks     *census.Classes
	picked    *once.Map[string, *Picked]
	reads     *once.Map[*Picked, *Read]
	questions sync.Map // what selections are named, by all that is asked
	ctx       context.Context
}

// NewProject makes a project of a folder. Its work ends with ctx. What is learnt of files is noted in marks.
func NewProject(ctx context.Context, folder *tree.Source, memory *Memory, marks *census.Classes) *Project {
	return &Project{Folder: folder, memory: memory, marks: marks, picked: once.NewMap[string, *Picked](ctx),
		reads: once.NewMap[*Picked, *Read](ctx), ctx: ctx}
}

// Save keeps what was learnt for the next build.
func (p *Project) Save() { p.memory.Save(p.Folder) }

// Picked is what an action takes in.
type Picked struct {
	Survey  *tree.Survey
	project *Project
	known   atomic.Pointer[Read]
}

// Read is what the files hold.
type Read struct {
	Contents *Contents
	files    *files
}

// File is what a file's bytes are.
type File struct {
	Size    int64
	Content digest.Content
}

// File tells of a file, by its path in the project folder.
func (r *Read) File(path string) File {
	one := r.files.known.of(path)
	return File{one.Stat.Size, one.Content}
}

// Each visits all files.
func (r *Read) Each(visit func(path string, f File)) {
	for path, one := range r.files.known {
		visit(path, File{one.Stat.Size, one.Content})
	}
}

// Pick surveys what an action takes, once for all steps. One that matches nothing is a tree.ErrNoMatch.
func (p *Project) Pick(s plan.Source) (*Picked, error) {
	return p.picked.Do(p.ctx, fmt.Sprintf("%q %+v", s.From, options(s)), func(context.Context) (*Picked, error) {
		survey, err := p.Folder.Pick(s.From, options(s))
		if err != nil {
			return nil, err
		}
		return &Picked{Survey: survey, project: p}, nil
	})
}

// Each visits what was picked so far. Nothing may be picked meanwhile.
func (p *Project) Each(visit func(*Picked)) { p.picked.Each(visit) }

// Read makes sure that it is known what all files hold; each file is read once, by whoever comes first. With fresh all are
// read again that an earlier build knew.
func (one *Picked) Read(ctx context.Context, fresh bool, tell event.Reporter) (*Read, error) {
	p := one.project
	return p.reads.Do(ctx, one, func(ctx context.Context) (*Read, error) {
		_, total := one.Size()
		tell.Started("reading", total)
		found, err := p.memory.digests(ctx, p.Folder, one.Survey.Picked, fresh, tell.Progress())
		if err != nil {
			return nil, err
		}
		for _, r := range found.known {
			p.marks.Note(r.Content, r.Mark)
		}
		read := &Read{&Contents{opener: p.Folder.Opener(), files: found.known, held: found.held}, found}
		one.known.Store(read)
		return read, nil
	})
}

// Size adds up the files.
func (one *Picked) Size() (files int, bytes int64) {
	for i := range one.Survey.Picked {
		if p := &one.Survey.Picked[i]; p.Kind == tree.File {
			files++
			bytes += p.Stat.Size
		}
	}
	return files, bytes
}

// WasRead reports whether the files were read, or known, in this build.
func (one *Picked) WasRead() bool { return one.known.Load() != nil }

// Settled reports whether the walk saw every file as it was when it was read, and would see any later change.
func (one *Picked) Settled() bool {
	read := one.known.Load()
	if read == nil || !read.files.settled {
		return false
	}
	for i := range one.Survey.Picked {
		if p := &one.Survey.Picked[i]; p.Kind == tree.File && read.files.known.of(p.Path).Stat != p.Stat {
			return false
		}
	}
	return true
}

// Question names several selections with all that the walks found; an error is that of a selection other than one that
// matches nothing. Head is written before them.
func (p *Project) Question(head string, selections []plan.Source) (digest.Key, error) {
	asked := fmt.Sprintf("%s%#v", head, selections) // by the same step of many images
	if known, is := p.questions.Load(asked); is {
		return known.(digest.Key), nil
	}
	sum := digest.NewContent()
	fmt.Fprint(sum, head)
	var line []byte
	for _, s := range selections {
		got, err := p.Pick(s)
		switch {
		case errors.Is(err, tree.ErrNoMatch):
			fmt.Fprintf(sum, "%q matches nothing\n", s.From)
			continue
		case err != nil:
			return "", err
		}
		fmt.Fprintf(sum, "%q %v\n", s.From, got.Survey.SingleFile)
		for i := range got.Survey.Picked {
			line = appendPicked(line[:0], &got.Survey.Picked[i])
			sum.Write(line)
		}
	}
	question := digest.Key(digest.ContentOf(sum))
	p.questions.Store(asked, question)
	return question, nil
}

func appendPicked(line []byte, p *tree.Picked) []byte {
	line = binary.LittleEndian.AppendUint32(append(line, byte(p.Kind)), p.Mode)
	if p.Kind != tree.Folder { // its times tell nothing that counts
		for _, n := range [...]uint64{uint64(p.Stat.Size), uint64(p.Stat.ModTime), uint64(p.Stat.Change), p.Stat.Inode, p.Twin.Device, p.Twin.Inode} {
			line = binary.LittleEndian.AppendUint64(line, n)
		}
	}
	// Texts hold no NUL.
	line = append(append(append(line, 0), p.Rel...), 0)
	if p.Path != p.Rel {
		line = append(line, p.Path...)
	}
	line = append(append(append(line, 0), p.Link...), 0)
	if len(p.Xattrs) > 0 {
		line = fmt.Appendf(line, "%q", p.Xattrs)
	}
	return append(line, '\n')
}
