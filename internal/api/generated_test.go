package api

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"vexillum/internal/wire"
)

// maker makes requests of the OpenAPI document at random.
type maker struct {
	r   *rand.Rand
	doc *openapi3.T
	big int // above 0: lists and texts are as long as they may be, up to so many bytes in all
}

// names are values that mean something on the farm of the tests.
var names = []any{
	"salt-clock", "gannet", "a.practice", "heron.practice", "1-3", "practice", "command", "kiln-01", "scenes", "frames",
	"nadia", "tobin", "admin", "high", "urgent", "50%", "2031-03-04T05:06:07Z", "10.1.0.0/16", "https://203.0.113.7/x", 1, 2, 3,
}

// value makes a value that fits a schema, mostly.
func (m *maker) value(s *openapi3.SchemaRef, depth int) any {
	if s == nil || s.Value == nil || depth > 8 {
		return nil
	}
	v := s.Value
	if m.big == 0 {
		switch m.r.IntN(12) {
		case 0:
			return nasty[m.r.IntN(len(nasty))]
		case 1, 2, 3:
			return names[m.r.IntN(len(names))]
		}
	}
	if len(v.Enum) > 0 {
		return v.Enum[m.r.IntN(len(v.Enum))]
	}
	for _, of := range []openapi3.SchemaRefs{v.OneOf, v.AnyOf, v.AllOf} {
		if len(of) > 0 {
			return m.value(of[m.r.IntN(len(of))], depth+1)
		}
	}
	switch {
	case v.Type.Includes("object"):
		out := map[string]any{}
		for name, p := range v.Properties {
			if m.big > 0 || m.r.IntN(2) == 0 || slices.Contains(v.Required, name) {
				out[name] = m.value(p, depth+1)
			}
		}
		if more := v.AdditionalProperties.Schema; more != nil {
			for i := range m.length(m.r.IntN(4)) {
				out[fmt.Sprint("k", i)] = m.value(more, depth+1)
			}
		}
		return out
	case v.Type.Includes("array"):
		out := []any{}
		for range m.length(m.r.IntN(4)) {
			out = append(out, m.value(v.Items, depth+1))
		}
		return out
	case v.Type.Includes("boolean"):
		return m.r.IntN(2) == 0
	case v.Type.Includes("integer"), v.Type.Includes("number"):
		return m.r.IntN(100)
	}
	if m.big > 0 && m.r.IntN(3) == 0 {
		n := min(m.big, 64<<10)
		m.big -= n
		return strings.Repeat("ab-1/", n/5)
	}
	return names[m.r.IntN(17)]
}

// length returns how long a list is.
func (m *maker) length(small int) int {
	if m.big <= 0 {
		return small
	}
	n := min(m.big/40, 5000)
	m.big -= 40 * n
	return n
}

// request makes the path and body of a request of a route.
func (m *maker) request(r route) (path string, body any) {
	op := m.doc.Paths.Value(parameter.ReplaceAllString(r.path, "{$1}")).GetOperation(r.method)
	path = parameter.ReplaceAllStringFunc(r.path, func(string) string {
		some := []string{"1", "2", "salt-clock", "gannet", "scenes", "practice", "nadia", "0", "-1", "9999999999", "%00", "a%2Fb", "..", "é"}
		return some[m.r.IntN(len(some))]
	})
	var query []string
	for _, p := range op.Parameters {
		if p.Value.In == "query" && m.r.IntN(2) == 0 {
			query = append(query, p.Value.Name+"="+strings.NewReplacer(" ", "%20", "\x00", "%00", "#", "%23", "&", "%26", "\n", "%0A", "\r", "%0D").
				Replace(fmt.Sprintf("%.200v", m.value(p.Value.Schema, 0))))
		}
	}
	if len(query) > 0 {
		path += "?" + strings.Join(query, "&")
	}
	if op.RequestBody == nil || op.RequestBody.Value == nil {
		return path, nil
	}
	for _, content := range op.RequestBody.Value.Content {
		return path, m.value(content.Schema, 0)
	}
	return path, nil
}

// TestRequestsMadeFromTheDocument sends random requests of every route in every role, and
// wants each to be answered, with a problem or without, and the farm to go on. VEXILLUM_REQUESTS
// sends more of them.
func TestRequestsMadeFromTheDocument(t *testing.T) {
	w := newWorld(t)
	w.closedProject()
	doc, err := openapi3.NewLoader().LoadFromData(openAPI)
	if err != nil {
		t.Fatal(err)
	}
	count, seed := 3000, uint64(time.Now().UnixNano())
	if n, err := strconv.Atoi(os.Getenv("VEXILLUM_REQUESTS")); err == nil {
		count = n
	}
	if n, err := strconv.ParseUint(os.Getenv("VEXILLUM_SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("VEXILLUM_SEED=%d", seed)
	m := &maker{r: rand.New(rand.NewPCG(seed, 1)), doc: doc}
	askers := []who{"", viewer, artist, wrangler, admin, aNode, "tobin", "nadia", "ines"}
	floor, err := w.svc.Floor()
	if err != nil {
		t.Fatal(err)
	}
	statuses := map[int]int{}
	for range count {
		r := routes[m.r.IntN(len(routes))]
		// These end the tokens of this test, wait for something to happen, or take a second for each.
		if strings.HasSuffix(r.path, "/session") || strings.HasSuffix(r.path, "/password") || strings.Contains(r.path, "/people") ||
			strings.Contains(r.path, "/tokens") || strings.HasSuffix(r.path, "/ask") || strings.HasSuffix(r.path, "/orders") ||
			strings.HasSuffix(r.path, "/probe") {
			continue
		}
		asker := askers[m.r.IntN(len(askers))]
		path, body := m.request(r)
		w.brief = strings.HasSuffix(r.path, "/events") || strings.HasSuffix(r.path, "/live") ||
			strings.HasSuffix(r.path, "/node-probes") || m.r.IntN(50) == 0
		status, answer := w.call(w.tokens[asker], r.method, path, body)
		w.brief = false
		statuses[status]++
		if status >= 500 && status != 503 && status != 507 {
			sent, _ := json.Marshal(body)
			t.Errorf("%s %s as %q with %.300s: %d %.300s", r.method, path, asker, sent, status, answer)
		}
	}
	if again, err := w.svc.Floor(); err != nil || again != floor {
		t.Errorf("the farm had to be loaded again: %v", err)
	}
	if status, _ := w.call("", "GET", "/readyz", nil); status != 200 {
		t.Errorf("the service is not ready: %d", status)
	}
	t.Logf("answers by status: %v", statuses)
}

// TestTheLargestBodiesHoldNobodyUp sends bodies as large as they may be to every route that takes
// one. In `make attack`, which has the machine to itself, no decision may take longer than 50 ms.
func TestTheLargestBodiesHoldNobodyUp(t *testing.T) {
	w := newWorld(t)
	w.closedProject()
	doc, err := openapi3.NewLoader().LoadFromData(openAPI)
	if err != nil {
		t.Fatal(err)
	}
	m := &maker{r: rand.New(rand.NewPCG(7, 7)), doc: doc}
	strict := os.Getenv("VEXILLUM_ATTACK") != ""
	try := func(what, method, path string, asker who, body any) {
		w.took.Store(0)
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		began := time.Now()
		status, answer := w.call(w.tokens[asker], method, path, body)
		runtime.ReadMemStats(&after)
		took := time.Duration(w.took.Load())
		if status >= 500 && status != 503 && status != 507 {
			t.Errorf("%s: %d %.300s", what, status, answer)
		}
		if grown := int64(after.HeapInuse) - int64(before.HeapInuse); grown > 256<<20 {
			t.Errorf("%s: %d MiB of memory", what, grown>>20)
		}
		if strict && took > 50*time.Millisecond {
			t.Errorf("%s: the loop was held for %v by %v", what, took, w.long.Load())
		}
		if took > 20*time.Millisecond || time.Since(began) > time.Second {
			t.Logf("%s: %d, %v in all, %v of the loop by %v", what, status,
				time.Since(began).Round(time.Millisecond), took, w.long.Load())
		}
	}
	for _, r := range routes {
		if r.method == "GET" || r.who == anybody || strings.HasSuffix(r.path, "/session") || strings.HasSuffix(r.path, "/ask") ||
			strings.HasSuffix(r.path, "/orders") || strings.Contains(r.path, "/people") || strings.Contains(r.path, "/tokens") ||
			strings.HasSuffix(r.path, "/password") || strings.HasSuffix(r.path, "/probe") ||
			strings.HasSuffix(r.path, "/node-probes") {
			continue
		}
		asker := r.who
		if asker == viewer || asker == artist {
			asker = "nadia"
		}
		m.big = 900 << 10
		path, body := m.request(r)
		try(r.method+" "+r.path, r.method, path, asker, body)
	}
	// The largest job files that may be.
	if err := os.WriteFile(filepath.Join(w.dir, "scenes", "a.practice"), []byte("practice: 1"), 0o644); err != nil {
		t.Fatal(err)
	}
	for what, each := range map[string]int{"many jobs": 0, "jobs that wait": 10, "jobs that wait for more than may be": 50} {
		var text strings.Builder
		text.WriteString("job_file: 1\nproject: salt-clock\njobs:\n")
		for i := range 2000 {
			fmt.Fprintf(&text, "  - {name: j%d_%d, scene: a.practice, frames: 1-100", each, i)
			if n := min(i, each); n > 0 {
				var waits []string
				for k := range n {
					waits = append(waits, fmt.Sprintf("j%d_%d", each, i-1-k))
				}
				text.WriteString(", after: [" + strings.Join(waits, ",") + "]")
			}
			text.WriteString("}\n")
		}
		for _, dry := range []bool{true, false} {
			if text.Len() > 900<<10 {
				continue
			}
			try(fmt.Sprint(what, ", dry ", dry), "POST", "/api/v1/jobs", "nadia", wire.SubmitJobs{Text: text.String(), DryRun: dry})
		}
		try(what+", estimated", "POST", "/api/v1/estimates", "nadia", wire.Estimating{Text: text.String()})
	}
}
