package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"northstake/core/declare"
	"northstake/core/wire"
	"northstake/host/reach"
	"northstake/service/contract"
	"northstake/service/jobs"
	"northstake/service/store"
)

// The types of problems that clients tell apart.
const (
	TypeLint     = "/problems/lint"
	TypeBlobs    = "/problems/missing-content"
	TypePassword = "/problems/sudo-password"
	TypeNotNamed = "/problems/not-named"
	TypeReach    = "/problems/reach/"
)

// problem ends a request with a problem document (RFC 9457).
func problem(c *gin.Context, p contract.Problem) {
	if p.Type == "" {
		p.Type = "about:blank"
	}
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(p.Status, p)
}

// refuse turns an error into a problem document.
func (s *Server) refuse(c *gin.Context, err error) {
	p := contract.Problem{Status: http.StatusInternalServerError, Title: "the service could not do it", Detail: err.Error(), Fix: "look at the service's log"}
	var (
		lint     declare.Problems
		unknown  jobs.Unknown
		noHosts  declare.UnknownHosts
		password jobs.PasswordNeeded
		named    jobs.NotNamed
		notReady jobs.NotReady
		left     jobs.NotForgotten
		probed   jobs.NotProbed
		trouble  *reach.Trouble
		fault    *wire.Fault
		missing  store.Missing
	)
	switch {
	case errors.As(err, &lint):
		p = contract.Problem{Type: TypeLint, Status: http.StatusUnprocessableEntity, Title: "the declaration is not sound", Problems: lint}
	case errors.As(err, &unknown):
		p = contract.Problem{Status: http.StatusNotFound, Title: unknown.Error(), Fix: "northstake hosts lists them"}
	case errors.As(err, &noHosts):
		p = contract.Problem{Status: http.StatusNotFound, Title: noHosts.Error(), Fix: "northstake hosts lists them; they can be chosen by name, by a pattern such as quay*, or by label:, kit: or site: and a word"}
		if noHosts.Near != "" {
			p.Fix = fmt.Sprintf("did you mean %q?", noHosts.Near)
		}
	case errors.As(err, &password):
		p = contract.Problem{Type: TypePassword, Status: http.StatusUnprocessableEntity, Title: "a password for sudo is needed", Detail: password.Error(), Missing: password.Hosts, Fix: "send it with sudo_passwords; it is used once and never stored"}
	case errors.As(err, &named):
		p = contract.Problem{Type: TypeNotNamed, Status: http.StatusConflict, Title: named.Error(), Missing: named.Addresses, Fix: "look at what goes, and confirm it by name: --removing " + strings.Join(named.Addresses, ",")}
	case errors.As(err, &left):
		p = contract.Problem{Status: http.StatusConflict, Title: left.Error(), Fix: "take them away first: northstake retire --all, or retire HOST; or forget them regardless"}
	case errors.As(err, &probed):
		p = contract.Problem{Status: http.StatusUnprocessableEntity, Title: probed.What, Fix: probed.Fix}
	case errors.As(err, &notReady):
		p = contract.Problem{Status: http.StatusConflict, Title: notReady.What, Fix: notReady.Fix}
	case errors.As(err, &trouble):
		p = contract.Problem{Type: TypeReach + trouble.Kind, Status: http.StatusBadGateway, Title: trouble.What, Fix: trouble.Fix}
	case errors.As(err, &fault):
		p = contract.Problem{Status: http.StatusBadGateway, Title: fault.What, Detail: fault.Output, Fix: fault.Fix}
	case errors.As(err, &missing):
		p = contract.Problem{Status: http.StatusNotFound, Title: missing.What, Fix: missing.Fix}
	case errors.Is(err, store.ErrNotFound):
		p = contract.Problem{Status: http.StatusNotFound, Title: err.Error()}
	default:
		s.Log.Error("request failed", "method", c.Request.Method, "path", c.Request.URL.Path, "error", err)
	}
	problem(c, p)
}

// body reads a JSON request; false says that the request has been refused. One that
// cannot be understood whole is: what is left out of it would widen it.
func body[T any](c *gin.Context, v *T) bool {
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, 64<<20)
	if err := wholly(json.NewDecoder(c.Request.Body), v); err != nil {
		problem(c, contract.Problem{Status: http.StatusBadRequest, Title: "the request is not what the contract says", Detail: err.Error()})
		return false
	}
	return true
}

// wholly reads one JSON value, of which every key has to be known, and nothing after it.
func wholly[T any](d *json.Decoder, v *T) error {
	d.DisallowUnknownFields()
	var there *T
	switch err := d.Decode(&there); {
	case errors.Is(err, io.EOF):
		return errors.New("the body is empty; send {} where nothing in particular is asked for")
	case err != nil:
		return err
	}
	if there == nil {
		return errors.New("the body is null")
	}
	if _, err := d.Token(); err != io.EOF {
		return errors.New("something follows the body's JSON value")
	}
	*v = *there
	return nil
}
