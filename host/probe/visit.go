package probe

import (
	"cmp"
	"context"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"northstake/core/wire"
)

// Visit asks for a site's mark by one of its names, at an address, as a visitor does. It says
// whether it is the site that answers, by its mark, or, for a name that it sends on, by the same path under a
// name of its own; and with what status. Where another certificate is shown than is wanted, the error is an
// *OtherCertificate, and the rest holds nevertheless.
func Visit(ctx context.Context, to wire.Endpoint, v wire.SiteVisit) (own bool, status int, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, to.AtAddress(v.Path), nil)
	if err != nil {
		return false, 0, err
	}
	req.Host = to.Host()
	req.Header.Set("User-Agent", "northstake")
	answer, err := Asking(to.Name).Do(req)
	if err != nil {
		return false, 0, err
	}
	defer answer.Body.Close()
	other := shows(answer.TLS, v.Fingerprint, v.Behind)
	if on, err := url.Parse(answer.Header.Get("Location")); err == nil && answer.StatusCode == http.StatusMovedPermanently {
		return on.Path == v.Path && slices.Contains(v.Own, on.Hostname()), answer.StatusCode, other
	}
	body, err := io.ReadAll(io.LimitReader(answer.Body, 4096))
	return strings.TrimSpace(string(body)) == v.Mark, answer.StatusCode, cmp.Or(err, other)
}
