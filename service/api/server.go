// Package api is the service's HTTP interface: the contract of openapi.yaml,
// and the console.
package api

import (
	"context"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"northstake/service/auth"
	"northstake/service/contract"
	"northstake/service/jobs"
	"northstake/service/store"
)

// Server answers requests.
type Server struct {
	Store   *store.Store
	Jobs    *jobs.Service
	Bell    *store.Bell
	Seal    *auth.Seal
	Log     *slog.Logger
	Version string
}

const (
	cookieName  = "northstake_session"
	sessionLife = 12 * time.Hour
)

// Handler is the whole of the service's HTTP interface. The console is served
// from files.
func (s *Server) Handler(files fs.FS) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.Use(gin.CustomRecoveryWithWriter(nil, func(c *gin.Context, err any) {
		s.Log.Error("request panicked", "path", c.Request.URL.Path, "error", err)
		problem(c, contract.Problem{Status: http.StatusInternalServerError, Title: "the service failed", Fix: "look at the service's log"})
	}), headers)
	r.GET("/healthz", func(c *gin.Context) { c.JSON(http.StatusOK, gin.H{"status": "ok"}) })
	r.GET("/readyz", func(c *gin.Context) {
		ctx, cancel := context.WithTimeout(c.Request.Context(), 2*time.Second)
		defer cancel()
		if err := s.Store.Ready(ctx); err != nil {
			problem(c, contract.Problem{Status: http.StatusServiceUnavailable, Title: "PostgreSQL does not answer", Detail: err.Error()})
			return
		}
		c.JSON(http.StatusOK, gin.H{"status": "ready"})
	})
	r.GET("/openapi.yaml", func(c *gin.Context) { c.Data(http.StatusOK, "application/yaml", contract.OpenAPI) })
	contract.RegisterHandlersWithOptions(r, s, contract.GinServerOptions{
		BaseURL:     "/api/v1",
		Middlewares: []contract.MiddlewareFunc{s.authenticate},
		ErrorHandler: func(c *gin.Context, err error, status int) {
			problem(c, contract.Problem{Status: status, Title: "the request is not what the contract says", Detail: err.Error()})
		},
	})
	r.NoRoute(func(c *gin.Context) { s.console(c, files) })
	return r
}

func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	c.Next()
}

// console serves the built console; a path that is no file is one of its pages.
func (s *Server) console(c *gin.Context, files fs.FS) {
	path := strings.TrimPrefix(c.Request.URL.Path, "/")
	if strings.HasPrefix(path, "api/") {
		problem(c, contract.Problem{Status: http.StatusNotFound, Title: "there is nothing at " + c.Request.URL.Path, Fix: "see /openapi.yaml"})
		return
	}
	if f, err := fs.Stat(files, path); path != "" && err == nil && !f.IsDir() {
		if strings.HasPrefix(path, "assets/") {
			c.Header("Cache-Control", "public, max-age=31536000, immutable")
		}
		http.ServeFileFS(c.Writer, c.Request, files, path)
		return
	}
	page, err := fs.ReadFile(files, "index.html")
	if err != nil {
		problem(c, contract.Problem{Status: http.StatusNotFound, Title: "this service was built without its console", Fix: "build web/ first: make build"})
		return
	}
	c.Header("Cache-Control", "no-store")
	c.Data(http.StatusOK, "text/html; charset=utf-8", page)
}

const (
	whoKey    = "who"
	groundKey = "ground"
)

// who is the name of the token that a request came with.
func who(c *gin.Context) string { return c.GetString(whoKey) }

// authenticate lets a request in that has a token: as a bearer token, or, for
// the console, in a cookie. With a cookie, a request that changes something has
// to come from the console's own pages.
func (s *Server) authenticate(c *gin.Context) {
	if c.Request.Method == http.MethodPost && strings.HasSuffix(c.FullPath(), "/session") {
		return
	}
	token, byCookie := "", false
	if h := c.GetHeader("Authorization"); strings.HasPrefix(h, "Bearer ") {
		token = strings.TrimPrefix(h, "Bearer ")
	} else if v, err := c.Cookie(cookieName); err == nil {
		token, byCookie = v, true
	}
	if token == "" {
		problem(c, contract.Problem{Status: http.StatusUnauthorized, Title: "no token was given", Fix: "sign in, or set NORTHSTAKE_TOKEN_FILE"})
		return
	}
	name, g, err := s.Store.Admitted(c.Request.Context(), auth.Hash(token), c.Param("ground"))
	if err != nil {
		if err == store.ErrNotFound {
			problem(c, contract.Problem{Status: http.StatusUnauthorized, Title: "the token is not known, or has ended", Fix: "sign in again"})
			return
		}
		s.refuse(c, err)
		return
	}
	if byCookie && c.Request.Method != http.MethodGet && !sameOrigin(c.Request) {
		problem(c, contract.Problem{Status: http.StatusForbidden, Title: "the request comes from another site's page"})
		return
	}
	c.Set(whoKey, name)
	if g != nil {
		c.Set(groundKey, *g)
	}
}

func sameOrigin(r *http.Request) bool {
	u, err := url.Parse(r.Header.Get("Origin"))
	return err == nil && u.Host != "" && u.Host == r.Host
}

// ground finds the ground that a request is about; false says that the request
// has been refused.
func (s *Server) ground(c *gin.Context, name string) (store.Ground, bool) {
	if g, ok := c.Value(groundKey).(store.Ground); ok && g.Name == name {
		return g, true // it was read with the token
	}
	g, err := s.Store.Ground(c.Request.Context(), name)
	if err != nil {
		s.refuse(c, err)
		return g, false
	}
	return g, true
}
