// Package api is the service's face on HTTP: routes and who may call them,
// sign-in, problem documents, live streams, and the OpenAPI document that
// describes it all. It translates; it decides nothing about the farm.
package api

import (
	_ "embed"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/goccy/go-yaml"
	"github.com/klauspost/compress/gzhttp"
	"github.com/klauspost/compress/gzip"

	"vexillum/internal/core/farm"
	"vexillum/internal/service"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
	"vexillum/internal/wire"
)

//go:embed openapi.yaml
var openAPI []byte

// Options is what a Server works with.
type Options struct {
	Service *service.Service
	Console fs.FS // the built console; may be empty
	Log     *slog.Logger
	Name    string // of this service among those that share its database
	Version string
	Secure  bool // served with TLS: cookies are sent over TLS alone
	// Pin is what nodes know this service by that enrol; empty: it is served without TLS.
	Pin string
}

// Server answers requests.
type Server struct {
	svc     *service.Service
	log     *slog.Logger
	name    string
	version string
	secure  bool
	pin     string
	gate    *gate
	openAPI []byte // as JSON
	forward *forwarder
	sheets  *sheets
	showing chan struct{} // one slot for each picture that is made to be shown

	handler http.Handler
}

// who says who may call a route. A role lets in all higher ones.
type who string

const (
	anybody  who = "anybody"
	viewer       = who(farm.Viewer)
	artist       = who(farm.Artist)
	wrangler     = who(farm.Wrangler)
	admin        = who(farm.Admin)
	aNode    who = "node"
)

// route is one entry of the table of routes. Everything that the service
// answers, but for the console's files, stands in it.
type route struct {
	method, path string
	who          who
	handle       func(*Server, *gin.Context)
}

// routes is the table of routes; openapi.yaml describes the same.
var routes = []route{
	{"GET", "/healthz", anybody, (*Server).healthz},
	{"GET", "/readyz", anybody, (*Server).readyz},
	{"GET", "/api/v1/openapi.json", anybody, (*Server).document},
	{"GET", "/api/v1/problems", anybody, (*Server).problems},
	{"GET", "/api/v1/schemas/:schema", anybody, (*Server).schema},
	{"POST", "/api/v1/session", anybody, reading((*Server).signIn)},
	{"DELETE", "/api/v1/session", viewer, live((*Server).signOut)},
	{"GET", "/api/v1/me", viewer, live((*Server).me)},
	{"PUT", "/api/v1/me/password", viewer, reading((*Server).changePassword)},
	{"GET", "/api/v1/tokens", viewer, live((*Server).tokens)},
	{"DELETE", "/api/v1/tokens/:token", viewer, live((*Server).endToken)},

	{"GET", "/api/v1/services", viewer, (*Server).services},
	{"GET", "/api/v1/farm", viewer, live((*Server).farm)},
	{"GET", "/api/v1/events", viewer, (*Server).events},
	{"GET", "/api/v1/runs", viewer, live((*Server).runs)},
	{"POST", "/api/v1/runs", artist, reading((*Server).submit)},
	{"POST", "/api/v1/jobs", artist, readingUpTo(mostJobs, (*Server).submitJobs)},
	{"POST", "/api/v1/preflights", artist, reading((*Server).preflight)},
	{"POST", "/api/v1/estimates", artist, readingUpTo(mostJobs, (*Server).estimate)},
	{"POST", "/api/v1/runs/:run/final", artist, reading((*Server).submitFinal)},
	{"GET", "/api/v1/presets", viewer, live((*Server).presets)},
	{"PUT", "/api/v1/presets/:preset", artist, reading((*Server).setPreset)},
	{"DELETE", "/api/v1/presets/:preset", artist, live((*Server).dropPreset)},
	{"GET", "/api/v1/rates", viewer, live((*Server).rates)},
	{"PUT", "/api/v1/rates", wrangler, reading((*Server).setRate)},
	{"GET", "/api/v1/preflight-rule", viewer, live((*Server).preflightRule)},
	{"PUT", "/api/v1/preflight-rule", wrangler, reading((*Server).setPreflightRule)},
	{"PUT", "/api/v1/preset-choice", artist, reading((*Server).choosePreset)},
	{"GET", "/api/v1/runs/:run", viewer, (*Server).run},
	{"GET", "/api/v1/runs/:run/results", viewer, (*Server).results},
	{"GET", "/api/v1/runs/:run/timings", viewer, (*Server).timings},
	{"GET", "/api/v1/queue", viewer, live((*Server).queue)},
	{"GET", "/api/v1/trouble", viewer, live((*Server).trouble)},
	{"GET", "/api/v1/hands", viewer, live((*Server).hands)},
	{"GET", "/api/v1/hands/history", viewer, live((*Server).pastHands)},
	{"POST", "/api/v1/hand-acts", artist, reading((*Server).actOnHands)},
	{"GET", "/api/v1/channels", viewer, live((*Server).channels)},
	{"PUT", "/api/v1/channels/:channel", viewer, reading((*Server).setChannel)},
	{"DELETE", "/api/v1/channels/:channel", viewer, live((*Server).dropChannel)},
	{"POST", "/api/v1/channels/:channel/trial", viewer, live((*Server).tryChannel)},
	{"GET", "/api/v1/notices", viewer, live((*Server).notices)},
	{"POST", "/api/v1/notices/:notice/again", viewer, live((*Server).noticeAgain)},
	{"GET", "/api/v1/on-call", viewer, live((*Server).onCall)},
	{"GET", "/api/v1/on-call.ics", viewer, live((*Server).onCallCalendar)},
	{"PUT", "/api/v1/on-call.ics", wrangler, live((*Server).setOnCall)},
	{"DELETE", "/api/v1/on-call.ics", wrangler, live((*Server).dropOnCall)},
	{"GET", "/api/v1/night", viewer, (*Server).night},
	{"POST", "/api/v1/retries", artist, reading((*Server).retries)},
	{"GET", "/api/v1/runs/:run/why", viewer, (*Server).why},
	{"GET", "/api/v1/runs/:run/steps", viewer, live((*Server).steps)},
	{"GET", "/api/v1/runs/:run/differences", viewer, live((*Server).differences)},
	{"GET", "/api/v1/runs/:run/history", viewer, (*Server).runHistory},
	{"GET", "/api/v1/runs/:run/log", viewer, (*Server).runLog},
	{"GET", "/api/v1/runs/:run/contact-sheet", viewer, (*Server).contactSheet},
	{"GET", "/api/v1/runs/:run/frames/:frame/thumbnail", viewer, (*Server).thumbnail},
	{"GET", "/api/v1/runs/:run/frames/:frame/picture", viewer, (*Server).picture},
	{"PATCH", "/api/v1/runs/:run", artist, reading((*Server).changeRun)},
	{"POST", "/api/v1/runs/:run/hold", artist, steer(queue.Hold)},
	{"POST", "/api/v1/runs/:run/release", artist, steer(queue.Release)},
	{"POST", "/api/v1/runs/:run/cancel", artist, steer(queue.Cancel)},
	{"POST", "/api/v1/runs/:run/redo", artist, reading((*Server).redo)},
	{"POST", "/api/v1/runs/:run/mended", artist, reading((*Server).mended)},
	{"POST", "/api/v1/runs/:run/frame-acts", artist, reading((*Server).frameActs)},
	{"POST", "/api/v1/runs/:run/frames/:frame/trials", wrangler, reading((*Server).renderByHand)},
	{"POST", "/api/v1/runs/:run/retry", artist, steer(queue.Retry)},

	{"GET", "/api/v1/nodes", viewer, live((*Server).nodes)},
	{"GET", "/api/v1/nodes/:node", viewer, live((*Server).node)},
	{"PUT", "/api/v1/nodes/:node/name", wrangler, reading((*Server).renameNode)},
	{"GET", "/api/v1/nodes/:node/versions", viewer, (*Server).nodeVersions},
	{"GET", "/api/v1/nodes/:node/history", viewer, (*Server).nodeHistory},
	{"GET", "/api/v1/nodes/:node/usage", viewer, (*Server).nodeUsage},
	{"GET", "/api/v1/nodes/:node/timeline", viewer, live((*Server).nodeTimeline)},
	{"GET", "/api/v1/nodes/:node/trouble", viewer, live((*Server).nodeTrouble)},
	{"GET", "/api/v1/nodes/:node/log", viewer, (*Server).nodeLog},
	{"GET", "/api/v1/nodes/:node/log/live", viewer, (*Server).followLog},
	{"GET", "/api/v1/nodes/:node/hours.ics", viewer, live((*Server).nodeHours)},
	{"PUT", "/api/v1/nodes/:node/hours.ics", wrangler, live((*Server).setNodeHours)},
	{"GET", "/api/v1/nodes.csv", viewer, live((*Server).exportNodes)},
	{"POST", "/api/v1/nodes.csv", wrangler, live((*Server).importNodes)},
	{"GET", "/api/v1/picked-nodes", viewer, live((*Server).pickNodes)},
	{"POST", "/api/v1/node-acts", artist, reading((*Server).actOnNodes)},
	{"POST", "/api/v1/node-changes", wrangler, reading((*Server).changeNodes)},
	{"POST", "/api/v1/node-undos", artist, reading((*Server).undoNodes)},
	{"POST", "/api/v1/node-tests", wrangler, reading((*Server).testNodes)},
	{"POST", "/api/v1/node-probes", wrangler, reading((*Server).probeNodes)},
	{"GET", "/api/v1/nodes/:node/tests", viewer, (*Server).nodeTests},
	{"GET", "/api/v1/pools", viewer, live((*Server).pools)},
	{"PUT", "/api/v1/pools/:pool", wrangler, reading((*Server).setPool)},
	{"GET", "/api/v1/stays", viewer, live((*Server).stays)},
	{"PUT", "/api/v1/stays", wrangler, reading((*Server).setStay)},
	{"GET", "/api/v1/launch-settings", viewer, live((*Server).launchSettings)},
	{"PATCH", "/api/v1/launch-settings", wrangler, reading((*Server).setLaunchSettings)},
	{"DELETE", "/api/v1/launch-settings", wrangler, live((*Server).dropLaunchSettings)},
	{"DELETE", "/api/v1/pools/:pool", wrangler, live((*Server).dropPool)},

	{"GET", "/api/v1/drill", viewer, live((*Server).drill)},
	{"GET", "/api/v1/recipes", viewer, live((*Server).recipes)},
	{"POST", "/api/v1/recipe-check", viewer, reading((*Server).checkRecipe)},
	{"GET", "/api/v1/recipes/:recipe", viewer, live((*Server).recipe)},
	{"PUT", "/api/v1/recipes/:recipe", wrangler, reading((*Server).setRecipe)},
	{"DELETE", "/api/v1/recipes/:recipe", wrangler, live((*Server).dropRecipe)},
	{"POST", "/api/v1/recipe-trials", wrangler, reading((*Server).tryRecipe)},
	{"GET", "/api/v1/recipe-trials/:trial", wrangler, live((*Server).recipeTrial)},
	{"DELETE", "/api/v1/recipe-trials/:trial", wrangler, live((*Server).stopTrial)},
	{"POST", "/api/v1/projects/:project/bundles", artist, (*Server).putBundle},
	{"GET", "/api/v1/projects/:project/bundles/:bundle", viewer, (*Server).bundle},
	{"PUT", "/api/v1/projects/:project/bundles/:bundle/contents/:content/:piece", artist, (*Server).putPiece},
	{"GET", "/api/v1/projects", viewer, live((*Server).projects)},
	{"GET", "/api/v1/projects/:project/scenes", artist, (*Server).browse},
	{"GET", "/api/v1/projects/:project/scene", artist, (*Server).scene},
	{"PATCH", "/api/v1/projects/:project", wrangler, reading((*Server).setProject)},
	{"DELETE", "/api/v1/projects/:project", wrangler, live((*Server).dropProject)},
	{"GET", "/api/v1/places", viewer, (*Server).places},
	{"PATCH", "/api/v1/places/:place", wrangler, reading((*Server).setPlace)},
	{"DELETE", "/api/v1/places/:place", wrangler, live((*Server).dropPlace)},
	{"POST", "/api/v1/places/:place/mark", wrangler, (*Server).markPlace},
	{"GET", "/api/v1/licences", viewer, live((*Server).licences)},
	{"PUT", "/api/v1/licences/:licence", wrangler, reading((*Server).setLicence)},
	{"GET", "/api/v1/keys", wrangler, live((*Server).keys)},
	{"POST", "/api/v1/keys", wrangler, reading((*Server).newKey)},
	{"DELETE", "/api/v1/keys/:key", wrangler, live((*Server).revokeKey)},
	{"GET", "/api/v1/people", admin, live((*Server).people)},
	{"PATCH", "/api/v1/people/:person", admin, reading((*Server).setPerson)},
	{"DELETE", "/api/v1/people/:person", admin, live((*Server).removePerson)},
	{"GET", "/api/v1/audit", wrangler, (*Server).audit},

	{"POST", "/node/v1/enrol", anybody, reading((*Server).enrol)},
	{"GET", "/node/v1/recipes", aNode, live((*Server).nodeRecipes)},
	{"GET", "/node/v1/places", aNode, live((*Server).nodePlaces)},
	{"POST", "/node/v1/places", aNode, reading((*Server).placesSeen)},
	{"POST", "/node/v1/found", aNode, reading((*Server).found)},
	{"GET", "/node/v1/bundles/:bundle", aNode, (*Server).nodeBundle},
	{"GET", "/node/v1/bundles/:bundle/contents/:content/:piece", aNode, (*Server).piece},
	{"POST", "/node/v1/holding", aNode, reading((*Server).holding)},
	{"POST", "/node/v1/start", aNode, reading((*Server).start)},
	{"POST", "/node/v1/ask", aNode, reading((*Server).ask)},
	{"POST", "/node/v1/errands", aNode, reading((*Server).errandTold)},
	{"POST", "/node/v1/orders", aNode, reading((*Server).orders)},
	{"POST", "/node/v1/trimmed", aNode, reading((*Server).trimmed)},
	{"POST", "/node/v1/beat", aNode, reading((*Server).beat)},
	{"POST", "/node/v1/said", aNode, reading((*Server).said)},
	{"POST", "/node/v1/report", aNode, reading((*Server).report)},
	{"POST", "/node/v1/probe", aNode, (*Server).probe},
	{"POST", "/node/v1/leave", aNode, reading((*Server).leave)},
	{"GET", "/node/v1/leases/:lease/frames/:frame/file", aNode, (*Server).uploaded},
	{"GET", "/node/v1/leases/:lease/checkpoint", aNode, (*Server).checkpoint},
	{"GET", "/node/v1/leases/:lease/checkpoint/:frame", aNode, (*Server).checkpointFile},
	{"PUT", "/node/v1/leases/:lease/frames/:frame/file", aNode, (*Server).upload},
	{"PUT", "/node/v1/runs/:run/frames/:frame/thumbnail", aNode, (*Server).putThumbnail},
}

// New returns a Server.
func New(o Options) (*Server, error) {
	document, err := yaml.YAMLToJSON(openAPI)
	if err != nil {
		return nil, fmt.Errorf("reading the OpenAPI document: %w", err)
	}
	s := &Server{
		svc: o.Service, log: o.Log, name: o.Name, version: o.Version, secure: o.Secure, pin: o.Pin, gate: newGate(),
		openAPI: document, forward: newForwarder(o.Name, o.Log, o.Service.Secret),
		showing: make(chan struct{}, mostShowing), sheets: newSheets(),
	}
	gin.SetMode(gin.ReleaseMode)
	e := gin.New()
	e.HandleMethodNotAllowed = true
	e.RedirectTrailingSlash = false
	if err := e.SetTrustedProxies(nil); err != nil { // an address in a header can be forged
		return nil, fmt.Errorf("setting up the router: %w", err)
	}
	e.Use(s.recover, s.headers)
	for _, r := range routes {
		e.Handle(r.method, r.path, s.allow(r.who), func(c *gin.Context) { r.handle(s, c) })
		if r.method == http.MethodGet && !endless(r.path) { // net/http leaves out the body
			e.Handle(http.MethodHead, r.path, s.allow(r.who), func(c *gin.Context) { r.handle(s, c) })
		}
	}
	e.NoMethod(func(c *gin.Context) {
		problem(
			c, http.StatusMethodNotAllowed, "",
			fmt.Sprintf("%s does not take %s", c.Request.URL.Path, c.Request.Method),
		)
	})
	e.NoRoute(newConsole(o.Console).serve)
	packed, err := gzhttp.NewWrapper(
		gzhttp.MinSize(minPacked), gzhttp.CompressionLevel(gzip.BestSpeed), gzhttp.EnableZstd(false),
	)
	if err != nil {
		return nil, fmt.Errorf("setting up compression: %w", err)
	}
	s.handler = http.NewCrossOriginProtection().Handler(packed(e))
	return s, nil
}

// endless reports whether the answer of a route goes on as long as somebody listens.
func endless(path string) bool {
	return strings.HasSuffix(path, "/events") || strings.HasSuffix(path, "/live")
}

// minPacked is how long an answer is in bytes before it is compressed; a stream
// always is.
const minPacked = 1024

// ServeHTTP implements http.Handler.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	patience := bodyPatience
	if r.ContentLength > maxBody || strings.HasSuffix(r.URL.Path, "/file") ||
		strings.HasPrefix(r.URL.Path, "/api/v1/projects/") && strings.Contains(r.URL.Path, "/bundles") { // may take a while
		patience = uploadPatience
	}
	timed(w, r, patience)
	if s.handOn(w, r) {
		return
	}
	s.handler.ServeHTTP(w, r)
}

func (s *Server) recover(c *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			s.log.Error("request panicked", "path", c.FullPath(), "panic", r)
			problem(c, http.StatusInternalServerError, "", "the service has made a mistake; its log says more")
		}
	}()
	c.Next()
}

// headers keeps pages from being framed, sniffed or fed with foreign code, and
// browsers from coming back without TLS where the service has it.
func (s *Server) headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set(
		"Content-Security-Policy",
		"default-src 'self'; img-src 'self' data: blob:; object-src 'none'; base-uri 'none'; form-action 'self'; "+
			"frame-ancestors 'none'",
	)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "same-origin")
	h.Set("X-Frame-Options", "DENY")
	if s.secure {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
	if path := c.Request.URL.Path; strings.HasPrefix(path, "/api/") || strings.HasPrefix(path, "/node/") {
		h.Set("Cache-Control", "no-store") // nobody sees it who has signed out
	}
	// The scheme belongs to the origin: a page that came without TLS may be anybody's.
	if origin := c.GetHeader("Origin"); s.secure && !safeMethod(c.Request.Method) &&
		strings.HasPrefix(strings.ToLower(origin), "http://") {
		problem(c, http.StatusForbidden, "Origin", "the request comes from a page that was loaded without TLS")
		c.Abort()
		return
	}
	c.Next()
}

func safeMethod(method string) bool {
	return method == http.MethodGet || method == http.MethodHead || method == http.MethodOptions
}

func (s *Server) healthz(c *gin.Context) { c.JSON(http.StatusOK, s.health()) }

func (s *Server) readyz(c *gin.Context) {
	health, status := s.health(), http.StatusOK
	if health.Part == "starting" || health.Part == "away" { // one that stands by hands requests on
		status = http.StatusServiceUnavailable
	}
	c.JSON(status, health)
}

func (s *Server) health() wire.Health {
	part, active := s.svc.Part()
	return wire.Health{
		Service: "vexillum", Version: s.version, Part: part, Name: s.name, Active: active, Now: time.Now(),
		NodesFrom: oldestNode,
	}
}

// oldestNode is the oldest version of a node process that speaks the protocol
// of this service.
const oldestNode = "0.1.0"

func (s *Server) services(c *gin.Context) { c.JSON(http.StatusOK, s.svc.Members()) }

func (s *Server) document(c *gin.Context) {
	c.Data(http.StatusOK, "application/json", s.openAPI)
}

// floor returns the live farm, or answers that it is not there.
func (s *Server) floor(c *gin.Context) (*floor.Floor, bool) {
	f, err := s.svc.Floor()
	if err != nil {
		s.fail(c, err)
		return nil, false
	}
	return f, true
}

// live makes a handler of one that needs the live farm.
func live(handle func(*Server, *gin.Context, *floor.Floor)) func(*Server, *gin.Context) {
	return func(s *Server, c *gin.Context) {
		if f, ok := s.floor(c); ok {
			handle(s, c, f)
		}
	}
}

// reading makes a handler of one that needs the live farm and a body.
func reading[T any](handle func(*Server, *gin.Context, *floor.Floor, T)) func(*Server, *gin.Context) {
	return readingUpTo(maxBody, handle)
}

// readingUpTo is reading of a body of at most so many bytes.
func readingUpTo[T any](
	most int64, handle func(*Server, *gin.Context, *floor.Floor, T),
) func(*Server, *gin.Context) {
	return func(s *Server, c *gin.Context) {
		var in T
		if !body(c, &in, most) {
			return
		}
		if f, ok := s.floor(c); ok {
			handle(s, c, f, in)
		}
	}
}

// answer sends a value, or what the error means.
func (s *Server) answer(c *gin.Context, v any, err error) {
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, v)
}

// maxWait bounds a long poll.
const maxWait = 30 * time.Second
