package web

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"nurvik/internal/api"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/jobs"
	"nurvik/internal/service/openid"
	"nurvik/internal/service/passkey"
	"nurvik/internal/service/remote"
	"nurvik/internal/service/store"
	"nurvik/internal/version"
)

// Options say what the server is made of.
type Options struct {
	Store    *store.Store
	Queue    *jobs.Queue
	Auth     *auth.Door
	Console  fs.FS    // built console; nil serves none
	Hosts    []string // host names and addresses under which the service is reached
	Registry *prometheus.Registry
	Log      *slog.Logger
	Now      func() time.Time
	Trouble  func() []string  // what is wrong with the private database; nil asks nobody
	Progress *Progress        // of audits
	Remote   *remote.Sessions // of workers that use the API
	OpenID   *openid.Provider
	Passkeys *passkey.Keys // nil where browsers offer none
}

// server holds what the operations share.
type server struct {
	Options
	api   huma.API
	slots map[slot]chan struct{}
}

// New returns the handler of everything.
func New(o Options) http.Handler {
	s := &server{Options: o, slots: newSlots()}
	root := chi.NewMux()
	requests := prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "nurvik_http_seconds",
		Help:    "Duration of requests by route.",
		Buckets: []float64{.001, .005, .02, .1, .5, 2, 10}}, []string{"method", "route", "status"})
	o.Registry.MustRegister(requests)
	root.Use(s.observe(requests), middleware.Recoverer, s.headers)
	root.Get("/healthz", s.health)
	root.Get("/readyz", s.ready)
	guarded := guard{hosts: o.Hosts}.middleware
	asked := o.Auth.Middleware(func(w http.ResponseWriter, err error) {
		s.Log.Error("it cannot be found out who a caller is", "error", err)
		problem(w, http.StatusServiceUnavailable, databaseAway)
	})
	root.With(guarded, asked, measured).Method(http.MethodGet, "/metrics",
		promhttp.HandlerFor(o.Registry, promhttp.HandlerOpts{}))
	root.Group(func(r chi.Router) {
		r.Use(guarded, asked, knownOnly)
		s.api = humachi.New(r, config())
		s.api.UseMiddleware(s.permitted, s.within, s.bounded, s.logged)
		s.register()
	})
	if o.Console != nil {
		compressed := middleware.Compress(5, "application/wasm", "text/html", "text/css", "text/javascript",
			"image/svg+xml")
		root.With(guarded, compressed).Handle("/*", console(o.Console))
	}
	return root
}

// Document returns the OpenAPI document, which depends on no state.
func Document() ([]byte, error) {
	s := &server{api: humachi.New(chi.NewMux(), config())}
	s.register()
	return json.MarshalIndent(s.api.OpenAPI(), "", "  ")
}

// config switches off what loads from or points to other places, and the echo of rejected values.
func config() huma.Config {
	c := huma.DefaultConfig("Nurvik", version.Number)
	c.Info.Description = "Audit of TLS certificates: the estate, audits and findings."
	c.DocsPath, c.SchemasPath, c.CreateHooks = "", "", nil
	c.OpenAPIPath = "/api/openapi"
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer"},
		"session": {Type: "apiKey", In: "cookie", Name: "nurvik"},
	}
	c.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	c.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	c.Transformers = append(c.Transformers, func(_ huma.Context, _ string, v any) (any, error) {
		if e, ok := v.(*huma.ErrorModel); ok {
			for _, detail := range e.Errors {
				detail.Value = nil
			}
			if more := len(e.Errors) - maxTold; more > 0 {
				e.Errors = e.Errors[:maxTold]
				e.Detail += fmt.Sprintf("; the first %d of %d defects are told", maxTold, maxTold+more)
			}
		}
		return v, nil
	})
	c.Formats = map[string]huma.Format{"application/json": huma.DefaultJSONFormat, "json": huma.DefaultJSONFormat}
	return c
}

// schemaName puts the package in front of types of the core, since facts, judgements
// and the API itself each have an endpoint or a finding.
func schemaName(t reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(t, hint)
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if packageName, ok := strings.CutPrefix(t.PkgPath(), "nurvik/core/"); ok {
		return strings.ToUpper(packageName[:1]) + packageName[1:] + name
	}
	return name
}

func (s *server) register() {
	s.registerEndpoints()
	s.registerEstate()
	s.registerAudits()
	s.registerFindings()
	s.registerHoldings()
	s.registerDeliveries()
	s.registerPolicies()
	s.registerWhatIfs()
	s.registerExpiry()
	s.registerWhere()
	s.registerSession()
	s.registerOpenID()
	s.registerPasskeys()
	s.registerPeople()
	s.registerTokens()
	s.registerActivity()
	s.registerWaivers()
	s.registerSchedules()
	s.registerHistory()
	s.registerDifference()
	s.registerWorkers()
	s.registerBulk()
	s.registerProposals()
	s.registerSearches()
	s.registerRemote()
}

// operation is what all operations have in common. The time to send a body is the server's, and bounded takes the
// deadline away when it is read: else it would end the connection's context in the middle of a long operation.
func operation(id, method, path, summary, tag string, failures ...int) huma.Operation {
	o := huma.Operation{OperationID: id, Method: method, Path: api.Base + path, Summary: summary, Tags: []string{tag},
		Errors: failures, MaxBodyBytes: usualBody, BodyReadTimeout: -1}
	declared(&o)
	return o
}

// health tells what a person should look at, if only soon.
func (s *server) health(w http.ResponseWriter, _ *http.Request) {
	var trouble []string
	if s.Trouble != nil {
		trouble = s.Trouble()
	}
	if len(trouble) > 0 {
		problem(w, http.StatusServiceUnavailable, strings.Join(trouble, "; "))
		return
	}
	writeStatus(w, "ok")
}

func (s *server) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := s.Store.Ping(ctx); err != nil {
		problem(w, http.StatusServiceUnavailable, databaseAway)
		return
	}
	writeStatus(w, "ready")
}

func writeStatus(w http.ResponseWriter, status string) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]string{"status": status}) // the peer may be gone
}

// databaseAway is told to callers while there is no database.
const databaseAway = "the database does not answer; nothing was changed, and audits go on when it is back"

// problem answers with an RFC 9457 document. Nothing of the request is repeated in it.
func problem(w http.ResponseWriter, status int, detail string) {
	if status == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", "5")
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(huma.ErrorModel{Title: http.StatusText(status), Status: status, Detail: detail})
}

// headers keep browsers from doing what the console does not need.
func (s *server) headers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		// Styles on elements are set by the component library; scripts come only from here.
		h.Set("Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; "+
				"base-uri 'none'; form-action 'self'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Permissions-Policy", "camera=(), geolocation=(), microphone=()")
		if s.Auth.Secure {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		if strings.HasPrefix(r.URL.Path, api.Base) {
			h.Set("Cache-Control", "no-store") // what one person may see is kept for nobody
		}
		next.ServeHTTP(w, r)
	})
}

// observe logs and measures each request: its route, never its contents.
func (s *server) observe(requests *prometheus.HistogramVec) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			started := time.Now()
			wrapped := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
			next.ServeHTTP(wrapped, r)
			route := chi.RouteContext(r.Context()).RoutePattern()
			if route == "" {
				route = "none"
			}
			status := wrapped.Status()
			if status == 0 {
				status = http.StatusOK
			}
			took := time.Since(started)
			requests.WithLabelValues(method(r.Method), route, strconv.Itoa(status)).Observe(took.Seconds())
			s.Log.Debug("request", "method", method(r.Method), "route", route, "status", status, "took",
				took.Round(time.Microsecond))
		})
	}
}

// method bounds the values that a label can take.
func method(name string) string {
	switch name {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete:
		return name
	}
	return "other"
}
