package api

import (
	"cmp"
	"net/http"
	"slices"
	"time"

	"github.com/gin-gonic/gin"

	"northstake/core/certificate"
	"northstake/core/declare"
	"northstake/core/stake"
	"northstake/service/contract"
)

// ListCertificates lists the certificates of a ground, then its authorities.
func (s *Server) ListCertificates(c *gin.Context, ground contract.InGround) {
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	d, _, ok := s.newest(c, g)
	if !ok {
		return
	}
	renewals, err := s.Store.Renewals(c.Request.Context(), g.ID)
	if err != nil {
		s.refuse(c, err)
		return
	}
	now, out := time.Now(), []contract.CertificateView{}
	for _, name := range stake.SortedKeys(d.Certificates) {
		v := viewOf(d, name, d.UsersOf(name))
		v.Names = append(v.Names, d.NamesOf(name)...)
		chain, err := s.Jobs.Chain(c.Request.Context(), g.Name, d, name)
		v = withChain(v, chain, err, certificate.Use{Names: v.Names, At: now})
		if len(chain) > 0 {
			v.ToldFrom = chain.Leaf().NotAfter.Add(-d.Certificates[name].ToldFor())
		}
		if len(chain) > 0 && d.Certificates[name].IsMade() {
			v.RenewedFrom = certificate.RenewedFrom(chain.Leaf())
		}
		if r, held := renewals[name]; held {
			v.Renewal = contract.Renewal{What: r.What, Fix: r.Fix, Tries: r.Tries, NextTry: r.NextAt}
		}
		out = append(out, v)
	}
	for _, name := range stake.SortedKeys(d.Authorities) {
		v := viewOf(d, name, sitesBelow(d, name))
		v.Sort, v.Source, v.From, v.Names = contract.AuthoritySort, "made by the service", d.At("authority", name), d.Authorities[name].Domains
		chain, err := s.Jobs.AuthorityOf(c.Request.Context(), g.Name, name)
		out = append(out, withChain(v, chain, err, certificate.Use{At: now}))
	}
	c.JSON(http.StatusOK, out)
}

// viewOf is what is declared of a certificate that some sites show.
func viewOf(d *declare.Declaration, name string, sites []string) contract.CertificateView {
	v := contract.CertificateView{Name: name, Sort: contract.CertificateSort, Names: []string{}, Sites: append([]string{}, sites...), Hosts: []string{}, Notes: []contract.CertificateNote{}, From: d.At("certificate", name)}
	if c := d.Certificates[name]; c != nil {
		v.Source = sourceOf(c)
	}
	for _, site := range sites {
		v.Hosts = append(v.Hosts, d.HostsOf(site)...)
	}
	slices.Sort(v.Hosts)
	v.Hosts = slices.Compact(v.Hosts)
	return v
}

// sitesBelow are the sites that show what an authority has signed.
func sitesBelow(d *declare.Declaration, authority string) []string {
	var out []string
	for name, c := range d.Certificates {
		if c.Authority == authority {
			out = append(out, d.UsersOf(name)...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// sourceOf says where a certificate comes from.
func sourceOf(c *declare.Certificate) string {
	switch {
	case c.SelfSigned:
		return "made by the service, signed by itself"
	case c.Authority != "":
		return "authority " + c.Authority
	}
	return cmp.Or(c.File, c.Bundle)
}

// withChain is a view with what the service has of the certificate, or with why it has none.
func withChain(v contract.CertificateView, chain certificate.Chain, err error, use certificate.Use) contract.CertificateView {
	if err != nil {
		v.Unread = err.Error()
		return v
	}
	if len(chain) == 0 {
		v.Unread = "it is made with the next plan"
		return v
	}
	leaf := chain.Leaf()
	v.Issuer, v.Key, v.Fingerprint, v.FingerprintSha1 = certificate.Issuer(leaf), certificate.KeyWords(leaf.PublicKey), certificate.Fingerprint(leaf), certificate.ShortFingerprint(leaf)
	v.ValidFrom, v.ValidUntil, v.Pem = leaf.NotBefore, leaf.NotAfter, chain.PEM()
	if v.Sort == contract.AuthoritySort {
		return v
	}
	f := certificate.Judge(chain, use)
	for _, n := range f.Mistakes {
		v.Notes = append(v.Notes, contract.CertificateNote{What: n.What, Fix: n.Fix, Mistake: true})
	}
	for _, n := range f.Cautions {
		v.Notes = append(v.Notes, contract.CertificateNote{What: n.What, Fix: n.Fix})
	}
	return v
}
