package service

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/maruel/natural"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/recipe"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// mostEntries bounds the entries of a folder that are shown.
const mostEntries = 2000

// Browse lists a folder of a project's scene place: folders and files, each with the
// recipe that reads it.
// Folders of projects that the asker does not see are not there.
func (s *Service) Browse(ctx context.Context, project, folder string, sight farm.Sight) (out wire.Folder, err error) {
	f, err := s.Floor()
	if err != nil {
		return out, err
	}
	if folder = path.Clean("/" + folder)[1:]; folder == "" {
		folder = "."
	}
	roots, err := f.Setup.Roots(ctx, project, runtime.GOOS)
	if err != nil {
		return out, err
	}
	out = wire.Folder{Path: strings.TrimPrefix(folder, "."), Entries: []wire.FolderEntry{}}
	if info, err := os.Stat(roots.Scenes); roots.Scenes == "" || err != nil || !info.IsDir() {
		return out, refusal.New(
			refusal.Conflict,
			"project",
			"the scene place of %s is not there where the service runs; type the path of the scene, and a node looks at it",
			project,
		)
	}
	var entries []fs.DirEntry
	err = within(ctx, func() (err error) {
		root, err := os.OpenRoot(roots.Scenes)
		if err != nil {
			return err
		}
		defer root.Close()
		open, err := root.Open(filepath.FromSlash(folder))
		if err != nil {
			return err
		}
		defer open.Close()
		entries, err = open.ReadDir(mostEntries + 1)
		return err
	})
	switch {
	case errors.Is(err, fs.ErrNotExist), !sight.SeesPath(folder):
		return out, refusal.New(refusal.NotFound, "path", "there is no folder %s in the scene place", folder)
	case err != nil && len(entries) == 0 && !strings.Contains(err.Error(), "EOF"):
		return out, refusal.New(refusal.Invalid, "path", "the folder %s cannot be read: %v", folder, err)
	}
	out.More = len(entries) > mostEntries
	book := f.Recipes.Book()
	for _, e := range entries[:min(len(entries), mostEntries)] {
		if strings.HasPrefix(e.Name(), ".") || folder == "." && !sight.SeesPath(e.Name()) {
			continue
		}
		entry := wire.FolderEntry{Name: e.Name(), Folder: e.IsDir(), Recipes: []string{}}
		if info, err := e.Info(); err == nil && info.Mode().IsRegular() {
			at := info.ModTime()
			entry.Bytes, entry.ModifiedAt = info.Size(), &at
		}
		if ending := path.Ext(e.Name()); !e.IsDir() && ending != "" {
			for _, r := range book.ForScene(ending) {
				entry.Recipes = append(entry.Recipes, r.Name)
			}
		}
		out.Entries = append(out.Entries, entry)
	}
	slices.SortFunc(out.Entries, func(a, b wire.FolderEntry) int {
		switch {
		case a.Folder != b.Folder && a.Folder:
			return -1
		case a.Folder != b.Folder:
			return 1
		}
		return natural.Compare(a.Name, b.Name)
	})
	return out, nil
}

// Scene tells what a scene says, and what may be chosen for it: all that nobody should
// have to type.
func (s *Service) Scene(
	ctx context.Context, project, scene, recipeName string, by farm.Person,
) (out wire.Scene, err error) {
	f, err := s.Floor()
	if err != nil {
		return out, err
	}
	sub, err := f.Queue.CheckSubmission(queue.Submission{
		Dry: true, Whole: true, Actor: by.Name, Role: by.Role,
		Spec: farm.Spec{Project: project, Scene: scene, Recipe: recipeName, Values: map[string]string{}},
	})
	// Values that a job has to give are not given yet.
	var no *refusal.Refusal
	if errors.As(err, &no) && no.Field == "values" {
		err = nil
	}
	if err != nil {
		return out, err
	}
	spec := sub.Spec
	if err := s.seesScene(ctx, f, spec.Project, f.People.Access().Sight(by), spec.Scene); err != nil {
		return out, err
	}
	r := f.Recipes.Book()[spec.Recipe]
	if r == nil {
		r = f.Recipes.Book().ForScene(path.Ext(scene))[0]
		spec.Recipe = r.Name
	}
	roots, err := f.Setup.Roots(ctx, project, runtime.GOOS)
	if err != nil {
		return out, err
	}
	look, err := s.lookAtScene(ctx, f, &spec, roots.Scenes, r, true)
	if err != nil {
		return out, err
	}
	// Its job is that of the look that it has if nobody chooses another.
	spec.Values = map[string]string{}
	for name, v := range r.Values {
		spec.Values[name] = v.Default
	}
	maps.Copy(spec.Values, look.shot.Values)
	sub.Spec = spec
	named, err := f.Queue.NameJobs(ctx, []queue.Submission{sub})
	if err != nil {
		return out, err
	}
	sub = named[0].Submission
	out = wire.Scene{
		Scene: scene, Job: sub.Spec.Job, Recipe: r.Name, RecipeTitle: r.Title, Mode: string(r.Mode),
		Picture: r.Picture, Width: look.shot.Width, Height: look.shot.Height, Cameras: wire.List(look.shot.Cameras),
		Layers: wire.List(look.shot.Layers), File: look.shot.File, Remarks: wire.List(look.remarks),
		Values: []wire.SceneValue{}, Passes: []wire.ScenePass{}, Presets: []wire.ScenePreset{},
	}
	if look.shot.Range != nil {
		out.Shot = frames.Of(*look.shot.Range).String()
	} else {
		before, of, err := f.Queue.ShotBefore(ctx, sub)
		if err == nil && before != nil {
			out.Shot, out.File, out.ShotRun = frames.Of(*before).String(), "", of
		}
	}
	sceneValues(&out, r, look.shot)
	err = f.Setup.PresetNames(ctx, by.Name, project, r.Name, func(name string, version int, mine bool) {
		out.Presets = append(out.Presets, wire.ScenePreset{Name: name, Version: version, Mine: mine})
	})
	return out, err
}

// seesScene refuses scenes and files in folders of projects that the asker does not see, as if
// they were not there.
func (s *Service) seesScene(
	ctx context.Context, f *floor.Floor, project string, sight farm.Sight, names ...string,
) error {
	if i := slices.IndexFunc(names, func(name string) bool { return !sight.SeesPath(name) }); i >= 0 {
		roots, err := f.Setup.Roots(ctx, project, runtime.GOOS)
		if err != nil {
			return err
		}
		return refusal.New(refusal.Invalid, "scene", "there is no scene %s in %s", names[i], roots.Scenes)
	}
	return nil
}

// sceneValues adds the settings and passes that a job may choose.
func sceneValues(out *wire.Scene, r *recipe.Recipe, said farm.SceneShot) {
	for _, name := range slices.Sorted(maps.Keys(r.Values)) {
		v := r.Values[name]
		value := wire.SceneValue{
			Name: name, Kind: v.Kind, Default: v.Default, Least: v.Least, Most: v.Most, Choices: wire.List(v.Choices),
			Help: v.Help, Needed: v.Needed,
		}
		if told, ok := said.Values[name]; ok {
			value.Default, value.FromScene = told, true
		}
		if name == "camera" && len(said.Cameras) > 0 {
			value.Choices = said.Cameras
		}
		if name == "layer" && len(said.Layers) > 0 {
			value.Choices = said.Layers
		}
		out.Values = append(out.Values, value)
	}
	for _, name := range slices.Sorted(maps.Keys(r.Passes)) {
		out.Passes = append(out.Passes, wire.ScenePass{Name: name, Help: r.Passes[name].Help})
	}
}
