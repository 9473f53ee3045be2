package api

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"net/http"
	"regexp"

	"github.com/gin-gonic/gin"

	"northstake/core/wire"
	"northstake/service/auth"
	"northstake/service/contract"
	"northstake/service/store"
)

// GetSession says whose token a request came with.
func (s *Server) GetSession(c *gin.Context) {
	c.JSON(http.StatusOK, contract.Session{Name: who(c), Version: s.Version})
}

// SignIn exchanges a token for a cookie that scripts cannot read.
func (s *Server) SignIn(c *gin.Context) {
	var in contract.SignInJSONBody
	if !body(c, &in) {
		return
	}
	ctx := c.Request.Context()
	name, err := s.Store.TokenName(ctx, auth.Hash(in.Token))
	if err != nil {
		problem(c, contract.Problem{Status: http.StatusUnauthorized, Title: "the token is not known", Fix: "the first token lies in the file that the service names when it starts"})
		return
	}
	if err := s.Store.TouchToken(ctx, auth.Hash(in.Token)); err != nil {
		s.refuse(c, err)
		return
	}
	session, hash := auth.NewToken()
	if err := s.Store.AddToken(ctx, name, hash, sessionLife); err != nil {
		s.refuse(c, err)
		return
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Value: session, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: c.Request.TLS != nil, MaxAge: int(sessionLife.Seconds())})
	c.JSON(http.StatusOK, contract.Session{Name: name, Version: s.Version})
}

// SignOut ends the session.
func (s *Server) SignOut(c *gin.Context) {
	if v, err := c.Cookie(cookieName); err == nil {
		if err := s.Store.DeleteSession(c.Request.Context(), auth.Hash(v)); err != nil {
			s.refuse(c, err)
			return
		}
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: -1})
	c.Status(http.StatusNoContent)
}

// ListTokens lists the tokens.
func (s *Server) ListTokens(c *gin.Context) {
	list, err := s.Store.Tokens(c.Request.Context())
	if err != nil {
		s.refuse(c, err)
		return
	}
	out := []contract.Token{}
	for _, t := range list {
		one := contract.Token{Name: t.Name, CreatedAt: t.CreatedAt}
		if t.UsedAt != nil {
			one.UsedAt = *t.UsedAt
		}
		out = append(out, one)
	}
	c.JSON(http.StatusOK, out)
}

var plainName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,38}[a-z0-9])?$`)

// named refuses a name that is none.
func named(c *gin.Context, name string) bool {
	if plainName.MatchString(name) {
		return true
	}
	problem(c, contract.Problem{Status: http.StatusUnprocessableEntity, Title: fmt.Sprintf("%q is not a name", name), Fix: "use lower-case letters, digits and hyphens, at most 40"})
	return false
}

// CreateToken makes a token and shows it this once.
func (s *Server) CreateToken(c *gin.Context) {
	var in contract.CreateTokenJSONBody
	if !body(c, &in) || !named(c, in.Name) {
		return
	}
	list, err := s.Store.Tokens(c.Request.Context())
	if err != nil {
		s.refuse(c, err)
		return
	}
	for _, t := range list {
		if t.Name == in.Name {
			problem(c, contract.Problem{Status: http.StatusConflict, Title: fmt.Sprintf("there is a token called %q", in.Name), Fix: "choose another name, or delete that one"})
			return
		}
	}
	token, hash := auth.NewToken()
	if err := s.Store.AddToken(c.Request.Context(), in.Name, hash, 0); err != nil {
		s.refuse(c, err)
		return
	}
	c.JSON(http.StatusCreated, contract.NewToken{Name: in.Name, Token: token})
}

// notThere names what was to go where it is not there.
func notThere(err error, sort, name string) error {
	if errors.Is(err, store.ErrNotFound) {
		return store.Missing{What: fmt.Sprintf("there is no %s called %q", sort, name), Fix: fmt.Sprintf("northstake %s list shows what there is", sort)}
	}
	return err
}

// DeleteToken ends a token and its sessions.
func (s *Server) DeleteToken(c *gin.Context, name contract.ByName) {
	if err := s.Store.DeleteToken(c.Request.Context(), name); err != nil {
		s.refuse(c, notThere(err, "token", name))
		return
	}
	c.Status(http.StatusNoContent)
}

// ListSecrets lists the secrets' names.
func (s *Server) ListSecrets(c *gin.Context) {
	list, err := s.Store.Secrets(c.Request.Context())
	if err != nil {
		s.refuse(c, err)
		return
	}
	out := []contract.Secret{}
	for _, v := range list {
		out = append(out, contract.Secret{Name: v.Name, UpdatedAt: v.UpdatedAt})
	}
	c.JSON(http.StatusOK, out)
}

// KeepSecret encrypts a value and keeps it.
func (s *Server) KeepSecret(c *gin.Context, name contract.ByName) {
	var in contract.KeepSecretJSONBody
	if !named(c, name) || !body(c, &in) {
		return
	}
	if in.Value == "" {
		problem(c, contract.Problem{Status: http.StatusUnprocessableEntity, Title: "the secret is empty"})
		return
	}
	sealed, err := s.Seal.Close(name, []byte(in.Value))
	if err == nil {
		err = s.Store.KeepSecret(c.Request.Context(), name, sealed)
	}
	if err != nil {
		s.refuse(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// ForgetSecret forgets a secret.
func (s *Server) ForgetSecret(c *gin.Context, name contract.ByName) {
	if err := s.Store.ForgetSecret(c.Request.Context(), name); err != nil {
		s.refuse(c, notThere(err, "secret", name))
		return
	}
	c.Status(http.StatusNoContent)
}

// MissingBlobs says which pieces of content have to be sent.
func (s *Server) MissingBlobs(c *gin.Context) {
	var sums []string
	if !body(c, &sums) {
		return
	}
	missing, err := s.Store.MissingBlobs(c.Request.Context(), sums)
	if err != nil {
		s.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, missing)
}

// PutBlobs stores content from a tar stream.
func (s *Server) PutBlobs(c *gin.Context) {
	in := tar.NewReader(c.Request.Body)
	for {
		h, err := in.Next()
		if err == io.EOF {
			c.Status(http.StatusNoContent)
			return
		}
		if err == nil && h.Size > wire.ContentLimit {
			err = fmt.Errorf("a content file has %d bytes, and %d are allowed", h.Size, int64(wire.ContentLimit))
		}
		var b []byte
		if err == nil {
			b, err = io.ReadAll(in)
		}
		if err == nil {
			err = s.Store.PutBlob(c.Request.Context(), h.Name, b)
		}
		if err != nil {
			problem(c, contract.Problem{Status: http.StatusUnprocessableEntity, Title: "the content could not be stored", Detail: err.Error()})
			return
		}
	}
}
