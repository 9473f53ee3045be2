package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"northstake/core/declare"
	"northstake/core/near"
	"northstake/core/resolve"
	"northstake/core/stake"
	"northstake/core/wire"
	"northstake/host/family"
	"northstake/service/contract"
	"northstake/service/store"
)

// GetSite shows a site: what is declared, and how it is on each of its hosts.
func (s *Server) GetSite(c *gin.Context, ground contract.InGround, site string) {
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	d, _, ok := s.newest(c, g)
	if !ok {
		return
	}
	is := d.Sites[site]
	if is == nil {
		s.refuse(c, store.Missing{What: fmt.Sprintf("ground %s declares no site called %q", g.Name, site), Fix: near.DidYouMean(site, d.SiteNames())})
		return
	}
	states, err := s.Store.PlaceStates(c.Request.Context(), g.ID)
	if err != nil {
		s.refuse(c, err)
		return
	}
	out := contract.SiteView{Name: site, Server: is.Server, Names: is.Names, RedirectedNames: append([]string{}, is.RedirectedNames...), Listens: []string{}, Served: is.IsServed(), Closed: is.Closed != "", CatchAll: is.CatchAll, From: d.At("site", site), Hosts: []contract.SiteOnHost{}}
	for _, l := range is.ListenOn() {
		out.Listens = append(out.Listens, l.On())
	}
	for _, host := range d.HostsOf(site) {
		on, err := siteOn(d, site, host, states[host], s.Jobs.Secrets(c.Request.Context(), d, g.Name, host))
		if err != nil {
			s.refuse(c, err)
			return
		}
		out.Hosts = append(out.Hosts, on)
	}
	c.JSON(http.StatusOK, out)
}

// siteOn is a site on one host, as that was last seen.
func siteOn(d *declare.Declaration, site, host string, st store.PlaceState, secrets *stake.Secrets) (contract.SiteOnHost, error) {
	on := contract.SiteOnHost{Host: host, Rows: []contract.Row{}, Lines: []contract.RenderedLine{}, SeenAt: timeOf(st.SeenAt), Unread: st.Unread}
	rows, err := rowsOf(st)
	if err != nil {
		return on, err
	}
	var traits wire.Traits
	if len(st.Traits) > 0 {
		if err := json.Unmarshal(st.Traits, &traits); err != nil {
			return on, err
		}
	}
	if traits.Family == "" {
		if on.Unread == "" {
			on.Unread = "the host was not seen yet"
		}
		return on, nil
	}
	on.System = traits.System
	h, err := resolve.OnePlace(d, host, traits, family.Layouts(traits.Family), secrets)
	if err != nil {
		on.Unread = err.Error()
		return on, nil
	}
	var want wire.SiteWant
	mine := map[string]bool{}
	for _, s := range h.Stakes {
		if s.Type == "site" && s.Name == site {
			if err := json.Unmarshal(s.Want, &want); err != nil {
				return on, err
			}
			mine[s.Address()] = true
			for _, need := range s.Needs {
				mine[host+"/"+need] = true
			}
		}
		if s.Site == site {
			mine[s.Address()] = true
		}
	}
	on.Service, on.Image, on.File = want.By(), want.Image, string(want.File)
	mine[host+"/"+want.ServedBy()] = true
	for _, p := range want.Listen.Ports() {
		mine[fmt.Sprintf("%s/port/%d-tcp", host, p)] = true
	}
	for _, r := range rows {
		if mine[r.Address] || mine[host+"/"+r.Type+r.Name] {
			on.Rows = append(on.Rows, r)
		}
	}
	places := want.Lines.All()
	for i, text := range strings.Split(strings.TrimSuffix(want.Text, "\n"), "\n") {
		line := contract.RenderedLine{Text: text}
		if i < len(places) {
			line.From, line.Source = places[i], strings.TrimSpace(d.LineOf(places[i]))
		}
		on.Lines = append(on.Lines, line)
	}
	return on, nil
}
