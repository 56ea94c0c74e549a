package demo

import (
	"context"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"

	"vexillum/examples"
	"vexillum/internal/wire"
)

// grading are the recipes beside those that practise: a studio's own, and the movie.
const grading = practising + ",grade,movie"

// recipes adds those of the studio.
func (f *Farm) recipes(ctx context.Context) error {
	text, err := fs.ReadFile(examples.Pellmarsh, "pellmarsh/recipes/grade.yaml")
	if err != nil {
		return fmt.Errorf("reading the demo's recipe: %w", err)
	}
	if err := f.admin.Do(
		ctx, http.MethodPut, "/api/v1/recipes/grade", wire.RecipeChange{Text: string(text), Note: "for dailies"}, nil,
	); err != nil {
		return fmt.Errorf("adding the demo's recipe: %w", err)
	}
	return nil
}

// proof submits a shot of which a proof comes first, and its final.
func (f *Farm) proof(ctx context.Context, final wire.Submit) error {
	final.Proof, final.Every, final.ProofScale = true, 24, 0.5
	r, err := f.submit(ctx, final)
	if err != nil {
		return err
	}
	if err := f.Nadia.Do(
		ctx, http.MethodPost, fmt.Sprintf("/api/v1/runs/%d/final", r.Run), wire.SubmitFinal{}, nil,
	); err != nil {
		return fmt.Errorf("submitting the final of %s: %w", r.Name, err)
	}
	return nil
}

// jobs submits a job file of steps that wait for one another, and drops another into the
// inbox.
func (f *Farm) jobs(ctx context.Context) error {
	text, err := fs.ReadFile(examples.Pellmarsh, "pellmarsh/jobs/flock.yaml")
	if err != nil {
		return fmt.Errorf("reading the demo's jobs: %w", err)
	}
	if err := f.Nadia.Do(ctx, http.MethodPost, "/api/v1/jobs", wire.SubmitJobs{Text: string(text)}, nil); err != nil {
		return fmt.Errorf("submitting the demo's jobs: %w", err)
	}
	const dropped = "tidal_pair.yaml"
	if text, err = fs.ReadFile(examples.Pellmarsh, "pellmarsh/jobs/"+dropped); err != nil {
		return fmt.Errorf("reading the demo's jobs: %w", err)
	}
	folder := filepath.Join(f.o.Dir, "inbox", Name)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return fmt.Errorf("making the demo's inbox: %w", err)
	}
	if err := os.WriteFile(filepath.Join(folder, dropped), text, 0o644); err != nil {
		return fmt.Errorf("dropping a file into the demo's inbox: %w", err)
	}
	return nil
}
