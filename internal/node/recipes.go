package node

import (
	"context"
	"fmt"
	"net/http"

	"vexillum/internal/core/farm"
	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// knownRecipes are the recipes that the farm has told this node of. They do not
// change; the node is told of others.
type knownRecipes []knownRecipe

type knownRecipe struct {
	recipe.Recipe
	wire.RecipeMarks
}

// newest returns those whose renderers this node looks for.
func (k *knownRecipes) newest() (out []recipe.Recipe) {
	for _, r := range *k {
		if r.Newest {
			out = append(out, r.Recipe)
		}
	}
	return out
}

func (k *knownRecipes) find(name string, version int) *recipe.Recipe {
	if k == nil {
		return nil
	}
	for _, r := range *k {
		if r.Name == name && r.Version == version {
			return &r.Recipe
		}
	}
	return nil
}

// mark is that of the farm, as long as its recipes are those.
func (k *knownRecipes) mark() string {
	var names []string
	for _, r := range *k {
		if r.Newest {
			names = append(names, fmt.Sprintf("%s %d", r.Name, r.Version))
		}
	}
	return recipe.BookMark(names)
}

func (a *Agent) readRecipes(ctx context.Context) error {
	var known knownRecipes
	if err := a.persist(ctx, http.MethodGet, "/node/v1/recipes", nil, &known); err != nil {
		return err
	}
	a.recipes.Store(&known)
	return nil
}

// withRecipe finds the recipe that a lease names, in its version. One that is not
// known is read.
func (a *Agent) withRecipe(ctx context.Context, l *wire.Lease) (*leased, error) {
	for range 2 {
		if r := a.recipes.Load().find(l.Recipe, l.RecipeVersion); r != nil {
			got := &leased{Lease: *l, Recipe: *r}
			if l.Tiles != nil { // each tile is a launch
				got.Recipe.Mode = farm.ModeSingle
			}
			return got, nil
		}
		if err := a.readRecipes(ctx); err != nil {
			return nil, err
		}
	}
	return nil, fmt.Errorf(
		"the service has no version %d of the recipe %q; is one of the services an older version", l.RecipeVersion,
		l.Recipe,
	)
}

// lookAgain reads the recipes, which have changed, and tells the service which
// renderers this machine has for them.
func (a *Agent) lookAgain(ctx context.Context) error {
	if err := a.readRecipes(ctx); err != nil {
		return err
	}
	found, err := a.probeAll(ctx)
	if err != nil {
		return err
	}
	a.o.Log.Info("the farm has other recipes", "renderers", renderersText(found))
	return nil
}
