package farm

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"strings"
	"testing"
)

// TestRecordsListsAllKinds reads which types of this package are Records.
func TestRecordsListsAllKinds(t *testing.T) {
	listed, kinds := map[string]bool{}, map[Kind]bool{}
	for _, r := range Records() {
		name := strings.TrimPrefix(fmt.Sprintf("%T", r), "farm.")
		if listed[name] || kinds[r.Kind()] || r.Kind() == "" {
			t.Errorf("%s, %q, is listed twice, or has no name", name, r.Kind())
		}
		listed[name], kinds[r.Kind()] = true, true
	}
	sources, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	for _, name := range sources {
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok || f.Recv == nil || f.Name.Name != "Wakes" {
				continue
			}
			found++
			if name := f.Recv.List[0].Type.(*ast.Ident).Name; !listed[name] {
				t.Errorf("%s is a Record, and Records does not list it", name)
			}
		}
	}
	if found != len(listed) {
		t.Errorf("%d types are Records, and %d are listed", found, len(listed))
	}
}
