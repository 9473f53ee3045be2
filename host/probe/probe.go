// Package probe makes HTTP checks of sites: from inside a host, by its rod, and from
// outside, by the service.
package probe

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"northstake/core/resolve"
)

// Result is what an HTTP check found.
type Result struct {
	resolve.Probe
	From      string        `json:"from"` // "inside" or "outside"
	OK        bool          `json:"ok"`
	GotStatus int           `json:"got_status,omitempty"`
	GotText   bool          `json:"got_text"`
	Error     string        `json:"error,omitempty"`
	Took      time.Duration `json:"took"`
}

const (
	probeLimit = 5 * time.Second
	pageLimit  = 4 << 20 // bytes of a page that are looked through
)

// Fetch makes one HTTP check against the server at address, asking for the
// site's name. From is kept in the result: "inside" or "outside".
func Fetch(ctx context.Context, p resolve.Probe, address, from string) (res Result) {
	if p.Address != "" {
		address = p.Address
	}
	start := time.Now()
	res = Result{Probe: p, From: from}
	defer func() { res.Took = time.Since(start) }()
	ctx, cancel := context.WithTimeout(ctx, probeLimit)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+net.JoinHostPort(address, strconv.Itoa(p.Port))+p.Path, nil)
	if err != nil {
		res.Error = err.Error()
		return res
	}
	req.Host = p.Name
	if p.Port != 80 {
		req.Host = net.JoinHostPort(p.Name, strconv.Itoa(p.Port))
	}
	client := http.Client{
		Transport:     &http.Transport{DisableKeepAlives: true, Proxy: nil},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	answer, err := client.Do(req)
	if err != nil {
		res.Error = plainNetError(err)
		return res
	}
	defer answer.Body.Close()
	res.GotStatus = answer.StatusCode
	body, err := io.ReadAll(io.LimitReader(answer.Body, pageLimit))
	if err != nil {
		res.Error = fmt.Sprintf("the answer broke off: %v", err)
		return res
	}
	res.GotText = p.Contains == "" || bytes.Contains(body, []byte(p.Contains))
	res.OK = res.GotStatus == p.Status && res.GotText
	return res
}

func plainNetError(err error) string {
	s := err.Error()
	switch {
	case strings.Contains(s, "connection refused"):
		return "connection refused: nothing listens there"
	case strings.Contains(s, "deadline exceeded"), strings.Contains(s, "Timeout"), strings.Contains(s, "timeout"):
		return "no answer in " + probeLimit.String() + ": a filter on the way drops it, or the server hangs"
	case strings.Contains(s, "no route to host"):
		return "no route to host"
	}
	return s
}

const notChecked = "not checked: "

// Failed is the result of a check from inside a host that could not be
// reached to make it.
func Failed(p resolve.Probe, err error) Result {
	return Result{Probe: p, From: "inside", Error: notChecked + err.Error()}
}

// Words says what a probe found, in one line.
func (r Result) Words() string {
	switch {
	case r.OK:
		return fmt.Sprintf("%d", r.GotStatus)
	case r.Error != "":
		return r.Error
	case r.GotStatus != r.Status:
		return fmt.Sprintf("answered %d, wanted %d", r.GotStatus, r.Status)
	}
	return fmt.Sprintf("answered %d without %q", r.GotStatus, r.Contains)
}

// Culprit says what the difference between the inside and the outside means,
// "" when there is none.
func Culprit(inside, outside Result) string {
	switch {
	case strings.HasPrefix(inside.Error, notChecked):
		return ""
	case inside.OK && !outside.OK && outside.Error != "":
		return "the site answers on the host itself and not from outside: something filters the port between here and there, or the server listens on loopback alone"
	case !inside.OK && outside.OK:
		return "the site answers from outside and not on the host itself: another machine may answer at this address"
	}
	return ""
}
