package service

import (
	"context"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"vexillum/internal/bundle"
	"vexillum/internal/core/farm"
	"vexillum/internal/recipe"
	"vexillum/internal/scenefile"
	"vexillum/internal/service/floor"
)

// Bounds of a scene that the service makes a bundle of while somebody waits.
const (
	sendTime  = 20 * time.Second
	sendBytes = 4 << 30
)

// sendIfUnseen makes a bundle of a scene in its place where fewer than half of the nodes
// that could take it see that place. What cannot be sent stays where it is, and the
// remarks say why.
func (s *Service) sendIfUnseen(
	ctx context.Context, f *floor.Floor, spec *farm.Spec, scenes string, r *recipe.Recipe, dry bool, look *sceneLook,
	bytes int64,
) error {
	see, blind, err := f.Fleet.Sight(ctx, *spec)
	if err != nil || blind == 0 {
		return err
	}
	all := english.Plural(see+blind, "node", "")
	remark := func(text string, args ...any) { look.remarks = append(look.remarks, fmt.Sprintf(text, args...)) }
	if see >= blind {
		remark(
			"%d of %s cannot read the scene place and get nothing of it; --bundle lets them take part.", blind, all,
		)
		return nil
	}
	sentence := fmt.Sprintf("Only %d of %s can read the scene place", see, all)
	switch {
	case see == 0 && blind == 1:
		sentence = "The only node that could take it cannot read the scene place"
	case see == 0:
		sentence = fmt.Sprintf("None of %s can read the scene place", all)
	}
	size := humanize.IBytes(uint64(bytes))
	switch {
	case s.bundles.store == nil || bytes > sendBytes || look.pin == "":
		remark("%s; send the scene with --bundle, so that the others can take part.", sentence)
		return nil
	case dry:
		remark("%s, so the scene would go to the nodes as a bundle of %s.", sentence, size)
		return nil
	}
	before, err := f.Queue.BundleBefore(ctx, *spec)
	if err != nil {
		return err
	}
	making, cancel := context.WithTimeoutCause(
		ctx, sendTime, fmt.Errorf("it could not be made within %v", sendTime),
	)
	defer cancel()
	m, err := s.makeBundle(making, *spec, scenes, r)
	if err != nil {
		remark("%s, and no bundle could be made of the scene: %v.", sentence, err)
		return nil
	}
	sent := *spec
	sent.Bundle, sent.With = m.ID(), nil
	if _, err := s.bundledScene(ctx, &sent, before); err != nil {
		remark("%s, and no bundle could be made of the scene: %v.", sentence, err)
		return nil
	}
	*spec, look.pin, look.sha = sent, "", sent.SceneSHA
	remark("%s, so the scene goes to the nodes as a bundle of %s.", sentence, size)
	return nil
}

// makeBundle makes a bundle of a scene in its place.
func (s *Service) makeBundle(
	ctx context.Context, spec farm.Spec, scenes string, r *recipe.Recipe,
) (*bundle.Manifest, error) {
	g, err := bundle.Gather(ctx, bundle.Gathering{
		Folder: scenes, Scene: spec.Scene, Find: scenefile.References(r), More: scenefile.Told(spec.With),
	})
	if err != nil {
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		return nil, err
	}
	if n := len(g.Missing) + len(g.Outside); n > 0 {
		return nil, fmt.Errorf("%s that it needs cannot go along", english.Plural(n, "file", ""))
	}
	if err := s.bundles.admit(spec.Project, g.Manifest); err != nil {
		return nil, err
	}
	return g.Manifest, s.bundles.store.For(spec.Project).Keep(ctx, g.Manifest, scenes)
}
