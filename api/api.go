// Package api is the service's network interface: REST under /api/v1, server-sent events, the console's files. It reads
// requests, asks service/, and writes answers; it decides nothing. Every route states its permission, and a route
// without one stops the program at start.
package api

import (
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"dovrak/core/problem"
	"dovrak/service"
	"dovrak/store"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
)

// API is the interface. Make its handler with [New].
type API struct {
	service  *service.Service
	log      *slog.Logger
	public   string // scheme and host that people reach it by
	secure   bool   // that is over TLS
	gather   prometheus.Gatherer
	answered *prometheus.HistogramVec
	closing  <-chan struct{}
	document []byte
}

// Options of the interface. All are required but Console.
type Options struct {
	Service   *service.Service
	Log       *slog.Logger
	PublicURL string
	Registry  *prometheus.Registry
	Console   fs.FS           // the built console; nil is none
	Closing   <-chan struct{} // closed when streams should end
}

// New makes the handler of all routes.
func New(o Options) (http.Handler, error) {
	public, err := url.Parse(o.PublicURL)
	if err != nil || public.Host == "" {
		return nil, fmt.Errorf("api: the public URL %q is not scheme and host", o.PublicURL)
	}
	a := &API{
		service: o.Service,
		log:     o.Log,
		public:  public.Scheme + "://" + public.Host,
		secure:  public.Scheme == "https",
		gather:  o.Registry,
		closing: o.Closing,
	}
	a.answered = prometheus.NewHistogramVec(
		prometheus.HistogramOpts{Name: "dovrak_http_request_seconds", Help: "Time to answer a request.",
			Buckets: []float64{.005, .02, .1, .5, 2, 10, 60}},
		[]string{"route", "status"},
	)
	if err := o.Registry.Register(a.answered); err != nil {
		return nil, err
	}
	if a.document, err = Document(); err != nil {
		return nil, err
	}
	e := echo.New()
	e.HTTPErrorHandler = a.problem
	e.Pre(a.requestID)
	e.Use(a.logged, middleware.RecoverWithConfig(middleware.RecoverConfig{DisablePrintStack: true}), headers)
	for _, r := range allRoutes() {
		if err := a.add(e, r); err != nil {
			return nil, err
		}
	}
	e.GET("/api/v1/openapi.json", func(c *echo.Context) error { return c.Blob(http.StatusOK, "application/json", a.document) })
	e.RouteNotFound("/api/*", func(c *echo.Context) error { return noRoute(c) })
	if o.Console != nil {
		e.GET("/*", consoleFiles(o.Console))
	}
	return sameOrigin(e), nil
}

func (a *API) add(e *echo.Echo, r route) error {
	if !r.open && r.needs == "" {
		return fmt.Errorf("api: %s %s states no permission", r.method, r.path)
	}
	_, err := e.AddRoute(echo.Route{Method: r.method, Path: r.path, Handler: func(c *echo.Context) error {
		var by service.Actor
		if !r.open {
			var err error
			if by, err = a.signedIn(c); err != nil {
				return err
			}
			if err := r.permits(by); err != nil {
				return err
			}
		}
		return r.handle(a, c, by)
	}})
	return err
}

func noRoute(c *echo.Context) error {
	return &problem.Problem{
		Kind:   problem.NotFound,
		Title:  "There is nothing at this address",
		Asked:  c.Request().Method + " " + c.Request().URL.Path,
		Remedy: "see /api/v1/openapi.json for what there is",
	}
}

// sameOrigin refuses what another site's page makes a browser send with the session's cookie.
func sameOrigin(next http.Handler) http.Handler {
	p := http.NewCrossOriginProtection()
	p.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		write(
			w,
			r,
			&problem.Problem{Kind: problem.NotPermitted, Title: "This request came from another site", Asked: r.Method + " " + r.URL.Path,
				Seen: "the origin " + r.Header.Get("Origin"), Rule: "same origin", Remedy: "use the console itself, or a token"},
		)
	}))
	return p.Handler(next)
}

const requestIDHeader = "X-Request-Id"

var plainID = regexp.MustCompile(`^[A-Za-z0-9._-]{1,64}$`)

// requestID gives every request an id: the caller's own if it is fit to be logged.
func (a *API) requestID(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		id := c.Request().Header.Get(requestIDHeader)
		if !plainID.MatchString(id) {
			id = store.NewID().String()
		}
		c.Request().Header.Set(requestIDHeader, id)
		c.Response().Header().Set(requestIDHeader, id)
		return next(c)
	}
}

// logged writes one line a request, without its query: a reference is no secret, but a mistaken paste may be.
func (a *API) logged(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		began := time.Now()
		err := next(c)
		if err != nil {
			a.problem(c, err)
		}
		status := http.StatusOK
		if r, ok := c.Response().(*echo.Response); ok {
			status = r.Status
		}
		a.answered.WithLabelValues(c.Path(), strconv.Itoa(status)).Observe(time.Since(began).Seconds())
		if strings.HasPrefix(c.Path(), "/api/") {
			a.log.InfoContext(
				c.Request().Context(),
				"request",
				"request",
				c.Request().Header.Get(requestIDHeader),
				"method",
				c.Request().Method,
				"route",
				c.Path(),
				"status",
				status,
				"ms",
				time.Since(began).Milliseconds(),
			)
		}
		return nil
	}
}

// headers keeps the console's pages from being framed, sniffed, or made to fetch from elsewhere.
func headers(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set(
			"Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
				"frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
		)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		if strings.HasPrefix(c.Request().URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		return next(c)
	}
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }
