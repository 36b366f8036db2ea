// Package account finds users and groups in the lists that a view has of them. It never looks at this machine's own.
package account

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// IDs are a numeric owner and group.
type IDs struct{ UID, GID int }

// User is as whom a command runs.
type User struct {
	IDs
	Groups []int // further ones, sorted
	Home   string
}

// Finder finds users and groups. What it has read of a view once it finds in the store.
type Finder struct {
	Store *store.Store
	File  *recipe.File // which problems are told of
}

// maxFile bounds the files of an image that are read whole, in bytes.
const maxFile = 4 << 20

// Owner works out a step's owner. Names are looked up in what lies below the step.
func (f Finder) Owner(ctx context.Context, view *tree.View, o plan.Owner, pos recipe.Pos) (IDs, error) {
	got := IDs{o.UID, o.GID}
	if !o.Named() && o.GID >= 0 {
		return got, nil
	}
	if o.User != "" {
		fields, err := f.line(ctx, view, "etc/passwd", o.User, 3, pos)
		if err != nil {
			return got, err
		}
		got.UID = number(fields[2])
		if got.GID < 0 && o.Group == "" {
			got.GID = number(fields[3])
		}
	}
	if o.Group != "" {
		fields, err := f.line(ctx, view, "etc/group", o.Group, 2, pos)
		if err != nil {
			return got, err
		}
		got.GID = number(fields[2])
	}
	return got, nil
}

func number(text string) int {
	n, _ := strconv.Atoi(text) // line has checked it
	return n
}

// line finds the line of a name, with at least the field of that number, numbers being numbers.
func (f Finder) line(ctx context.Context, view *tree.View, file, name string, last int, pos recipe.Pos) ([]string, error) {
	text, err := f.read(ctx, view, file)
	if err != nil {
		return nil, err
	}
	var names []string
	for line := range strings.Lines(text) {
		fields := strings.Split(strings.TrimSpace(line), ":")
		if len(fields) <= last || strings.HasPrefix(line, "#") {
			continue
		}
		names = append(names, fields[0])
		if fields[0] != name {
			continue
		}
		for _, text := range fields[2 : last+1] {
			if n, err := strconv.ParseUint(text, 10, 31); err != nil || n >= 1<<31 {
				return nil, f.File.Problem(pos, "/%s has %q for %s, which is not a number", file, text, name)
			}
		}
		return fields, nil
	}
	if len(names) == 0 {
		return nil, f.File.Problem(pos, "there is no /%s to look %q up in: write numbers, such as 1000:1000, or have an earlier step enrol the user", file, name)
	}
	hint := "it has " + strings.Join(names[:min(len(names), 8)], ", ")
	if near := recipe.Nearest(name, names); near != "" {
		hint = fmt.Sprintf("did you mean %q?", near)
	}
	return nil, f.File.Problem(pos, "/%s of the image has no %q: %s", file, name, hint)
}

// read reads a small file of a view; one that is not there is empty.
func (f Finder) read(ctx context.Context, view *tree.View, file string) (string, error) {
	real, err := view.Resolve(file, true)
	if err != nil {
		return "", err
	}
	n, exists := view.Lookup(real)
	if !exists || n.Kind != tree.File || n.Size == 0 {
		return "", nil
	}
	text, err := f.Content(ctx, n, file)
	return string(text), err
}

// Content returns what a small file of a view holds. What was read once is found in the store, so that no layer is needed for it.
func (f Finder) Content(ctx context.Context, n *tree.Node, file string) ([]byte, error) {
	if n.Size > maxFile {
		return nil, fmt.Errorf("/%s of the image has %d bytes, more than %d", file, n.Size, maxFile)
	}
	if text, found := f.Store.SmallFile(n.Content); found {
		return text, nil
	}
	if err := filetree.Prepare(ctx, n.From, n.At); err != nil {
		return nil, err
	}
	body, err := n.From.Open(n.At)
	if err != nil {
		return nil, err
	}
	defer body.Close()
	text, err := io.ReadAll(io.LimitReader(body, n.Size+1))
	if err == nil && digest.ContentBytes(text) != n.Content {
		err = fmt.Errorf("reading /%s of the image: %w", file, digest.ErrMismatch)
	}
	if err != nil {
		return nil, err
	}
	_ = f.Store.PutSmallFile(text) // it only saves time
	return text, nil
}

// User finds as whom commands run, in the view's own lists of users and groups.
func (f Finder) User(ctx context.Context, view *tree.View, owner plan.Owner, pos recipe.Pos) (User, error) {
	ids, err := f.Owner(ctx, view, owner, pos)
	if err != nil {
		return User{}, err
	}
	a := User{IDs: ids, Home: "/"}
	if a.UID == 0 {
		a.Home = "/root"
	}
	passwd, err := f.read(ctx, view, "etc/passwd")
	if err != nil {
		return a, err
	}
	name := owner.User
	for line := range strings.Lines(passwd) {
		fields := strings.Split(strings.TrimSpace(line), ":")
		if len(fields) >= 6 && fields[2] == strconv.Itoa(a.UID) && strings.HasPrefix(fields[5], "/") {
			a.Home, name = fields[5], fields[0]
			break
		}
	}
	groups, err := f.read(ctx, view, "etc/group")
	if err != nil || name == "" || owner.Group != "" {
		return a, err
	}
	for line := range strings.Lines(groups) {
		fields := strings.Split(strings.TrimSpace(line), ":")
		if len(fields) >= 4 && slices.Contains(strings.Split(fields[3], ","), name) {
			if gid, err := strconv.ParseUint(fields[2], 10, 31); err == nil {
				a.Groups = append(a.Groups, int(gid))
			}
		}
	}
	slices.Sort(a.Groups)
	return a, nil
}

// Named reads the user of an image's settings.
func Named(text string) plan.Owner {
	user, group, both := strings.Cut(text, ":")
	var o plan.Owner
	if n, err := strconv.ParseUint(user, 10, 31); err == nil {
		o.UID, o.GID = int(n), int(n)
	} else {
		o.User, o.GID = user, -1
	}
	if both {
		if n, err := strconv.ParseUint(group, 10, 31); err == nil {
			o.GID = int(n)
		} else {
			o.Group = group
		}
	}
	return o
}
