package engine

import (
	"context"
	"encoding/json"
	"fmt"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/engine/account"
	"imbricat/internal/engine/startable"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/recipe"
)

// examine holds the settings of an image against its tree. What can never be right is an error, what is doubtful a warning.
func (w *work) examine(ctx context.Context, n *unitNode) error {
	var config v1.ImageConfig
	if base := n.inherited(); base != nil {
		config = base.Config.Config
	}
	doubts, err := w.doubtsOf(ctx, n, image.Inherit(config, n.values.Settings))
	if err != nil {
		return fmt.Errorf("%s: %w", n.plan.ID, err)
	}
	wrong := &recipe.Errors{File: w.o.Plan.File}
	for _, d := range doubts {
		places := n.values.Places
		pos := map[string]recipe.Pos{event.UnknownUser: places.User, event.MissingFolder: places.WorkingDir, event.MissingProgram: places.Program}[d.Code]
		if pos == (recipe.Pos{}) {
			pos = n.plan.Pos // it is inherited
		}
		if d.Wrong {
			wrong.Add(pos, "%s", d.Text)
			continue
		}
		w.tools.Warner.Warn(nil, d.Code, w.o.Plan.File.Describe(pos, d.Text))
	}
	if len(wrong.Problems) > 0 {
		return wrong
	}
	return nil
}

// doubtsOf finds what settings name that a tree does not have. What was found of the same ones in the same tree is noted in the store.
func (w *work) doubtsOf(ctx context.Context, n *unitNode, config v1.ImageConfig) (doubts []startable.Doubt, err error) {
	settings, err := json.Marshal(config)
	if err != nil {
		return nil, err
	}
	note := keyOfText(fmt.Sprintf("startable 1 %s %s", n.view().Key(), settings))
	if text, found := w.o.Store.Note(note); found && json.Unmarshal(text, &doubts) == nil {
		return doubts, nil
	}
	view, err := n.view().Index(ctx)
	if err != nil {
		return nil, err
	}
	if doubts, err = startable.Doubts(ctx, account.Finder{Store: w.o.Store, File: w.o.Plan.File}, view, config); err != nil {
		return nil, err
	}
	text, err := json.Marshal(doubts)
	if err == nil && !w.dryRun {
		_ = w.o.Store.PutNote(note, text) // it only saves time
	}
	return doubts, err
}
