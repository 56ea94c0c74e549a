// Package internal holds no code: only the test that keeps the rooms apart.
package internal

import (
	"go/doc"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// below says for each room which rooms of ours it may import. What is not
// listed may be imported by main, tools and tests alone.
var below = map[string][]string{
	"core/blame":    {},
	"core/frames":   {},
	"core/trait":    {},
	"core/hours":    {},
	"core/tile":     {},
	"core/farm":     {"core/blame", "core/frames", "core/hours", "core/tile", "core/trait"},
	"core/pace":     {"core/farm", "core/frames", "core/tile"},
	"core/capacity": {"core/farm", "core/frames", "core/pace", "core/span"},
	"core/fairness": {"core/farm"},
	"core/deal":     {"core/capacity", "core/fairness", "core/farm", "core/frames", "core/pace", "core/span"},
	"core/triage":   {"core/blame", "core/capacity", "core/farm", "core/frames"},
	"core/simulate": {
		"core/blame", "core/capacity", "core/deal", "core/engine", "core/explain", "core/fairness", "core/farm",
		"core/frames",
		"core/hours", "core/pace", "core/protocol/accept", "core/span", "core/triage",
	},
	"core/drill": {
		"core/blame", "core/capacity", "core/deal", "core/engine", "core/farm", "core/frames", "core/pace",
		"core/simulate", "core/triage",
	},
	"core/protocol/accept": {"core/farm", "core/frames", "core/triage"},
	"core/engine": {
		"core/capacity", "core/deal", "core/farm", "core/frames", "core/pace", "core/protocol/accept",
		"core/triage",
	},
	"core/hands":            {"core/farm", "core/span"},
	"core/notice":           {"core/farm"},
	"core/night":            {},
	"core/health":           {},
	"core/span":             {},
	"core/paths":            {},
	"bundle":                {"core/frames", "core/paths"},
	"permit":                {},
	"account":               {},
	"plainfile":             {},
	"plainyaml":             {},
	"core/usage":            {},
	"core/timeline":         {},
	"core/protocol/journal": {"core/frames"},
	"filelock":              {},
	"launcher":              {"filelock"},
	"core/forecast": {
		"core/capacity", "core/deal", "core/fairness", "core/farm", "core/frames", "core/pace", "core/simulate",
		"core/span",
	},
	"fileschema": {"plainyaml"},
	"recipe":     {"core/farm", "core/frames", "core/trait", "fileschema", "plainyaml"},
	"jobfile":    {"core/farm", "fileschema", "wire"},
	"drillfile": {
		"core/farm", "core/frames", "core/hours", "core/pace", "core/simulate", "core/trait", "fileschema",
	},
	"movie":           {},
	"picture":         {"plainfile"},
	"practice":        {"core/span", "plainyaml"},
	"secret":          {},
	"selftest":        {"core/farm"},
	"wire":            {},
	"client":          {"wire"},
	"publish":         {"core/farm", "plainfile"},
	"localpg":         {"filelock"},
	"store":           {"core/fairness", "core/farm", "core/frames", "core/usage"},
	"service/gauge":   {"core/usage"},
	"service/logbook": {"store"},
	"service/lead":    {"store"},
	"service/ledger":  {"core/farm", "service/lead", "store"},
	"service/refusal": {},
	"service/writer":  {"core/engine", "core/farm", "core/frames"},
	"service/people":  {"core/engine", "core/farm", "service/refusal", "service/writer"},
	"scenefile":       {"bundle", "core/farm", "plainfile", "recipe"},
	"service/shelf":   {"core/farm", "recipe"},
	"service/setup": {
		"core/capacity", "core/farm", "jobfile", "recipe", "service/refusal", "service/shelf", "service/views",
		"service/writer", "wire",
	},
	"service/views": {
		"core/blame", "core/capacity", "core/deal", "core/engine", "core/explain", "core/fairness", "core/farm",
		"core/forecast",
		"core/frames", "core/hands", "core/health", "core/hours", "core/pace", "core/span", "core/triage", "drillfile",
		"service/refusal",
		"service/writer", "wire",
	},
	"service/queue": {
		"core/capacity", "core/deal", "core/engine", "core/farm", "core/forecast", "core/frames", "core/pace",
		"core/tile", "core/paths", "core/trait", "core/triage", "recipe", "service/refusal", "service/shelf",
		"service/views",
		"service/writer", "wire",
	},
	"service/inbox":   {"plainfile", "wire"},
	"service/errands": {"core/farm", "wire"},
	"service/hands":   {"core/farm", "core/hands", "service/refusal", "service/writer", "wire"},
	"service/fleet": {
		"core/capacity", "core/deal", "core/engine", "core/farm", "core/frames", "core/health", "core/hours",
		"core/paths", "core/protocol/accept", "core/trait", "recipe", "service/refusal", "service/shelf",
		"service/views",
		"service/writer", "wire",
	},
	"service/floor": {
		"core/engine", "core/fairness", "core/farm", "core/pace", "recipe", "service/fleet", "service/hands",
		"service/notices", "service/people",
		"service/queue", "service/setup", "service/shelf", "service/views", "service/writer", "wire",
	},
	"service": {
		"bundle", "core/farm", "core/forecast", "core/frames", "core/night", "core/pace", "core/paths",
		"core/protocol/accept",
		"core/tile", "core/span", "core/triage", "fileschema", "jobfile", "launcher", "notify", "permit", "picture", "plainfile",
		"publish", "recipe", "scenefile", "selftest",
		"secret", "service/inbox", "service/errands",
		"service/fleet",
		"service/floor", "service/gauge", "service/lead", "service/ledger", "service/logbook", "service/notices",
		"service/queue",
		"service/refusal", "service/views", "service/writer", "store", "wire",
	},
	"roster":   {"core/farm", "core/hours"},
	"calendar": {"core/hours"},
	"notify":   {},
	"standin":  {},
	"service/notices": {
		"calendar", "core/farm", "core/notice", "notify", "secret", "service/refusal", "service/writer", "store",
		"wire",
	},
	"api": {
		"bundle", "calendar", "core/capacity", "core/farm", "core/frames", "core/health", "core/protocol/accept",
		"core/span", "core/timeline", "core/usage", "drillfile", "fileschema", "jobfile", "picture", "publish", "recipe",
		"roster", "secret", "service", "service/fleet", "service/floor", "service/logbook", "service/queue",
		"service/refusal", "service/views", "service/writer", "store", "wire",
	},
	"node": {
		"account", "bundle", "client", "core/farm", "core/frames", "filelock", "core/protocol/journal", "core/span", "core/triage",
		"launcher", "permit", "picture", "plainfile", "publish", "recipe", "scenefile", "wire",
	},
	"crowd": {"client", "core/frames", "wire"},
	"demo":  {"client", "filelock", "launcher", "localpg", "node", "standin", "wire"},
	"cli": {
		"account", "api", "bundle", "client", "core/drill", "core/farm", "core/frames", "core/simulate", "core/span", "crowd",
		"demo", "drillfile", "fileschema", "jobfile", "launcher", "localpg", "movie", "node", "notify", "picture",
		"plainfile", "plainyaml",
		"practice", "publish", "recipe", "scenefile", "secret", "service", "store", "wire",
	},
	"testkit/smallfarm": {"core/deal", "core/farm", "core/frames", "core/pace"},
	"core/explain":      {"core/capacity", "core/deal", "core/farm", "core/pace", "core/span", "core/triage"},
	"testkit/pgtest":    {"localpg"},
	"testkit/badline":   {},
	"testkit/browser":   {},
}

// pure is what the computation may import besides the standard library.
var pure = []string{"github.com/dustin/go-humanize", "gonum.org/", "github.com/Masterminds/semver", "golang.org/x/text"}

// impure are the parts of the standard library that the computation must not
// touch: it knows no files, network, processes or SQL.
var impure = []string{
	"os", "os/exec", "net", "net/http", "database/sql", "io/fs", "path/filepath", "log/slog", "syscall", "embed",
}

const module = "vexillum/"

func TestRoomsImportOnlyWhatLiesBelow(t *testing.T) {
	seen := map[string]bool{}
	err := filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		room := filepath.ToSlash(filepath.Dir(path))
		seen[room] = true
		allowed, known := below[room]
		if !known {
			t.Errorf("the room %s is not on the plan", room)
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, spec := range file.Imports {
			name, err := strconv.Unquote(spec.Path.Value)
			if err != nil {
				return err
			}
			if inside, ok := strings.CutPrefix(name, module+"internal/"); ok && !slices.Contains(allowed, inside) {
				t.Errorf("%s imports %s, which does not lie below it", path, inside)
			}
			if strings.HasPrefix(room, "core/") {
				foreign := strings.Contains(strings.Split(name, "/")[0], ".")
				if foreign && !slices.ContainsFunc(pure, func(p string) bool { return strings.HasPrefix(name, p) }) ||
					slices.Contains(impure, name) {
					t.Errorf("%s imports %s; the computation must stay pure", path, name)
				}
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for room := range below {
		if !seen[room] {
			t.Errorf("the room %s is on the plan and does not exist", room)
		}
	}
}

// TestTheComputationNeverLooksAtTheClock reads the source of the core for
// calls that would make it depend on when it runs.
func TestTheComputationNeverLooksAtTheClock(t *testing.T) {
	err := filepath.WalkDir("core", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		for _, call := range []string{"time.Now(", "time.Since(", "time.Until(", "time.After(", "time.Sleep(", "rand.Int(", "rand.Float64("} {
			if strings.Contains(string(data), call) {
				t.Errorf("%s calls %s…)", path, call)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// TestEveryRoomOfTheCoreHasAnExample looks for a first use of each.
func TestEveryRoomOfTheCoreHasAnExample(t *testing.T) {
	for room := range below {
		if !strings.HasPrefix(room, "core/") {
			continue
		}
		files, err := filepath.Glob(filepath.FromSlash(room + "/*_test.go"))
		if err != nil {
			t.Fatal(err)
		}
		if !slices.ContainsFunc(files, func(path string) bool {
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
			return err == nil && len(doc.Examples(file)) > 0
		}) {
			t.Errorf("the room %s has no Example", room)
		}
	}
}
