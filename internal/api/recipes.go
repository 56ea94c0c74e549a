package api

import (
	"errors"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"vexillum/internal/fileschema"
	"vexillum/internal/recipe"
	"vexillum/internal/service/floor"
	"vexillum/internal/wire"
)

// mostVersion bounds the number of a version that is asked for.
const mostVersion = 1 << 30

func (s *Server) recipes(c *gin.Context, f *floor.Floor) {
	v, err := f.Setup.Recipes(c, c.Query("dropped") == "true")
	s.answer(c, v, err)
}

func (s *Server) recipe(c *gin.Context, f *floor.Floor) {
	version, ok := query(c, "version", 0, 1, mostVersion)
	if !ok {
		return
	}
	v, err := f.Setup.Recipe(c, c.Param("recipe"), int(version))
	s.changed(c, v, v.Etag, err)
}

func (s *Server) setRecipe(c *gin.Context, f *floor.Floor, in wire.RecipeChange) {
	r, mistakes := readRecipe(in.Text)
	if len(mistakes) > 0 {
		detail := "the recipe has a mistake: " + mistakes[0].What
		if len(mistakes) > 1 {
			detail = fmt.Sprintf("the recipe has %d mistakes; the first: %s", len(mistakes), mistakes[0].What)
		}
		problemWith(c, wire.Problem{
			Status: http.StatusUnprocessableEntity, Field: "text", Detail: detail, Mistakes: mistakes,
		})
		return
	}
	if name := c.Param("recipe"); r.Name != name {
		problem(c, http.StatusUnprocessableEntity, "text", fmt.Sprintf(
			"the text is of a recipe named %s, not %s; write name: %s, or set the recipe %s", r.Name, name, name,
			r.Name,
		))
		return
	}
	v, err := f.Setup.SetRecipe(c, r, in.Note, match(c), person(c))
	s.changed(c, v, v.Etag, err)
}

// checkRecipe says what is wrong with a recipe file, and changes nothing.
func (s *Server) checkRecipe(c *gin.Context, _ *floor.Floor, in wire.RecipeChange) {
	r, mistakes := readRecipe(in.Text)
	out := wire.RecipeCheck{Mistakes: mistakes}
	if r != nil {
		out.Name = r.Name
	}
	c.JSON(http.StatusOK, out)
}

// readRecipe reads a recipe file, or says what is wrong with it.
func readRecipe(text string) (*recipe.Recipe, []wire.FileMistake) {
	r, err := recipe.Parse([]byte(text))
	var wrong *fileschema.MistakesError
	switch {
	case errors.As(err, &wrong):
		return r, mistakesView(wrong)
	case err != nil:
		return r, []wire.FileMistake{{What: err.Error()}}
	}
	return r, []wire.FileMistake{}
}

func (s *Server) dropRecipe(c *gin.Context, f *floor.Floor) {
	s.done(c, f.Setup.DropRecipe(c, c.Param("recipe"), person(c)))
}
