package affected

import (
	"context"
	"fmt"
	"strings"

	"imbricat/internal/flow/workspace"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// packages reads dependency manifests of both ends, once. Wide tells why they are not known.
func (f *finder) packages(ctx context.Context) (ends workspace.Ends, wide string) {
	if f.ends == nil {
		f.ends = &workspace.Ends{}
		commits := [2]string{f.between.Since}
		if f.o.Until != "" {
			commits[1] = f.between.Until
		}
		var err error
		if *f.ends, err = f.p.PackagesBetween(ctx, [2]*recipe.Recipe{f.before, f.after}, commits, f.changed); err != nil {
			f.endsWide = "the packages of both ends cannot be compared: " + firstLine(err)
		}
	}
	return *f.ends, f.endsWide
}

// needs finds packages whose needs differ between both ends.
func (f *finder) needs(ctx context.Context, u *unit, c plan.Copy, step string) {
	ends, wide := f.packages(ctx)
	if wide != "" {
		u.because(wide, step)
		return
	}
	if ends.Since == ends.Until && f.o.Until == "" {
		return // they are those of the plan
	}
	was, err := c.Packages.Sources(ends.Since, plan.Source{})
	if err != nil {
		u.because("what "+strings.Join(c.Packages.Names, ", ")+" needed at "+short(f.between.Since)+" is not known: "+firstLine(err), step)
		return
	}
	is, err := c.Packages.Sources(ends.Until, plan.Source{})
	if err != nil {
		u.because("what "+strings.Join(c.Packages.Names, ", ")+" needed at "+short(f.between.Until)+" is not known: "+firstLine(err), step)
		return
	}
	now := c.Taken
	for _, one := range [][2]string{{differing(was, is), "it was not among what is needed"}, {differing(is, was), "it is not needed any more"}, {differing(is, now), "what is needed now is another matter"}, {differing(now, is), "what is needed now is another matter"}} {
		if one[0] != "" {
			u.because(one[0], one[1], step)
		}
	}
}

// differing returns the first of some sources that others lack; empty for none.
func differing(others, all []plan.Source) string {
	there := make(map[string]bool, len(others))
	for _, o := range others {
		there[fmt.Sprintf("%q %q", o.From, o.LeaveOut)] = true
	}
	for _, s := range all {
		if !there[fmt.Sprintf("%q %q", s.From, s.LeaveOut)] {
			return s.From
		}
	}
	return ""
}

// packageOf names the package that a path belongs to, for the way from it to a step; nothing where that is not known.
func (f *finder) packageOf(ctx context.Context, p string) []string {
	ends, wide := f.packages(ctx)
	if wide != "" {
		return nil
	}
	of := ends.Until.Of(p)
	if of == nil {
		of = ends.Since.Of(p)
	}
	if of == nil {
		return nil
	}
	return []string{"package " + of.String()}
}
