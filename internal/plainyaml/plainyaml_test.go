package plainyaml

import (
	"strings"
	"testing"
	"time"
)

func TestPlainFiles(t *testing.T) {
	bomb := "a: &a [x, x, x, x, x, x, x, x, x]\n"
	for c := 'b'; c <= 'j'; c++ {
		bomb += strings.Repeat("", 1) + string(c) + ": &" + string(c) + " [" + strings.TrimSuffix(
			strings.Repeat("*"+string(c-1)+", ", 9), ", ",
		) + "]\n"
	}
	for name, c := range map[string]struct{ text, says string }{
		"plain":        {"nodes:\n  - {name: kiln-01, speed: 1.5}\n  - name: \"*not an alias\"\n    note: 'a & b'\n", ""},
		"a bomb":       {bomb, "aliases are not supported"},
		"a merge":      {"a: {x: 1}\nb:\n  <<: *a\n", "aliases are not supported"},
		"an anchor":    {"a: &x 1\n", "line 1, column 4"},
		"deep in flow": {strings.Repeat("[", 5000), "nested more than"},
		"deep":         {deep(500), "nested more than"},
		"no text":      {"\xff\xfe\x00", "not text in UTF-8"},
		"a zero":       {"a: b\x00c\n", "not text in UTF-8"},
		"too long":     {strings.Repeat("#", MostBytes+1), "at most"},
	} {
		began := time.Now()
		_, err := ToJSON([]byte(c.text))
		if c.says == "" && err != nil || c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %v, want %q", name, err, c.says)
		}
		if took := time.Since(began); took > 20*time.Second {
			t.Errorf("%s took %v", name, took)
		}
	}
}

func deep(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.Repeat(" ", i) + "a:\n")
	}
	return b.String()
}
