package api

import (
	"bytes"
	"compress/gzip"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"
)

// console serves the built web console: its files, and its page for every
// other address.
type console struct {
	files  fs.FS
	mu     sync.Mutex
	packed map[string][]byte // files compressed once
}

func newConsole(files fs.FS) *console { return &console{files: files, packed: map[string][]byte{}} }

const unbuilt = `<!doctype html><title>Vexillum</title><p>The console has not been built into this program. Run <code>make build</code> and start it again.`

// machines are the first steps of addresses that programs ask: none of them is ever a page.
var machines = []string{"api", "node", "metrics", "healthz", "readyz", "livez"}

func (p *console) serve(c *gin.Context) {
	name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
	if first, _, _ := strings.Cut(name, "/"); slices.Contains(machines, first) {
		problem(
			c, http.StatusNotFound, "",
			"nothing answers "+c.Request.Method+" at "+c.Request.URL.Path+"; /api/v1/openapi.json lists all there is",
		)
		return
	}
	if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		problem(c, http.StatusMethodNotAllowed, "", "pages answer GET only")
		return
	}
	if p.files == nil {
		c.Data(http.StatusOK, "text/html; charset=utf-8", []byte(unbuilt))
		return
	}
	data, err := fs.ReadFile(p.files, name)
	if name == "" || err != nil {
		if strings.HasPrefix(name, "assets/") {
			problem(c, http.StatusNotFound, "", "there is no such file; reload the page")
			return
		}
		name = "index.html"
		if data, err = fs.ReadFile(p.files, name); err != nil {
			c.Data(http.StatusOK, "text/html; charset=utf-8", []byte(unbuilt))
			return
		}
	}
	if strings.HasPrefix(name, "assets/") {
		c.Header("Cache-Control", "public, max-age=31536000, immutable")
	} else {
		c.Header("Cache-Control", "no-cache")
	}
	kind := mime.TypeByExtension(path.Ext(name))
	if packs(name) && strings.Contains(c.GetHeader("Accept-Encoding"), "gzip") {
		c.Header("Content-Encoding", "gzip")
		c.Header("Vary", "Accept-Encoding")
		data = p.pack(name, data)
	}
	c.Data(http.StatusOK, kind, data)
}

func packs(name string) bool {
	switch path.Ext(name) {
	case ".js", ".css", ".html", ".svg", ".json":
		return true
	}
	return false
}

func (p *console) pack(name string, data []byte) []byte {
	p.mu.Lock()
	defer p.mu.Unlock()
	if packed := p.packed[name]; packed != nil {
		return packed
	}
	var buf bytes.Buffer
	w, _ := gzip.NewWriterLevel(&buf, gzip.BestCompression)
	_, err := io.Copy(w, bytes.NewReader(data))
	if err != nil || w.Close() != nil {
		return data
	}
	p.packed[name] = buf.Bytes()
	return p.packed[name]
}
