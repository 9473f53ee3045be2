package api

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"slices"
	"time"

	"github.com/gin-gonic/gin"

	"northstake/core/declare"
	"northstake/core/lint"
	"northstake/core/plan"
	"northstake/core/resolve"
	"northstake/core/wire"
	"northstake/host/family"
	"northstake/host/family/meaning"
	"northstake/host/reach"
	"northstake/service/contract"
	"northstake/service/jobs"
	"northstake/service/store"
)

// ListKeys explains the keys of a declaration.
func (s *Server) ListKeys(c *gin.Context) {
	keys, _ := meaning.Keys("")
	c.JSON(http.StatusOK, keys)
}

// ListGrounds lists the grounds.
func (s *Server) ListGrounds(c *gin.Context) {
	ctx := c.Request.Context()
	list, err := s.Store.Grounds(ctx)
	if err != nil {
		s.refuse(c, err)
		return
	}
	out := []contract.Ground{}
	for _, g := range list {
		one := contract.Ground{Name: g.Name, Revision: g.Newest}
		if d, err := s.Jobs.Declaration(ctx, g.ID, g.Newest); err != nil {
			one.About = err.Error() // the others are listed all the same
		} else {
			one.About, one.Hosts = d.Ground.About, len(d.Hosts)
		}
		out = append(out, one)
	}
	c.JSON(http.StatusOK, out)
}

func revisionOf(r store.Revision) contract.Revision {
	return contract.Revision{Number: r.Number, CreatedAt: r.CreatedAt, By: r.By}
}

func pathsOf(files []declare.File) []string {
	var out []string
	for _, f := range files {
		out = append(out, f.Path)
	}
	return out
}

// CreateRevision checks a declaration and stores it under the next number.
func (s *Server) CreateRevision(c *gin.Context, ground contract.InGround) {
	var in contract.NewRevision
	if !body(c, &in) {
		return
	}
	ctx := c.Request.Context()
	m := &declare.Manifest{Files: in.Files, Dirs: in.Dirs}
	for _, p := range slices.Concat(pathsOf(in.Files), in.Dirs) {
		if !fs.ValidPath(p) {
			problem(c, contract.Problem{Status: http.StatusUnprocessableEntity, Title: fmt.Sprintf("%q is no path beside a declaration", p), Fix: "send paths in their shortest form, with slashes, that climb nowhere"})
			return
		}
	}
	d, problems := lint.Parse(in.Sources, m)
	if len(problems) > 0 {
		s.refuse(c, problems)
		return
	}
	if d.Ground.Name != ground {
		problem(c, contract.Problem{Status: http.StatusConflict, Title: fmt.Sprintf("the declaration is of ground %q, not %q", d.Ground.Name, ground)})
		return
	}
	if len(d.Remotes()) > 0 {
		problems, err := s.Jobs.Fetch(ctx, ground, d, m)
		if err != nil {
			s.refuse(c, err)
			return
		}
		if len(problems) == 0 {
			d, problems = lint.Parse(in.Sources, m)
		}
		if len(problems) > 0 {
			s.refuse(c, problems)
			return
		}
	}
	if problems := resolve.Clashes(d, family.AllLayouts()); len(problems) > 0 {
		s.refuse(c, problems)
		return
	}
	if lacking := d.WithoutText(); len(lacking) > 0 {
		problem(c, contract.Problem{Status: http.StatusUnprocessableEntity, Title: "the text of files is missing", Missing: lacking, Fix: "send it with the files, as text"})
		return
	}
	var sums []string
	for _, dir := range d.ContentDirs() {
		for _, f := range d.FilesOf(dir) {
			sums = append(sums, f.SHA256)
		}
	}
	missing, err := s.Store.MissingBlobs(ctx, sums)
	if err != nil {
		s.refuse(c, err)
		return
	}
	if len(missing) > 0 {
		problem(c, contract.Problem{Type: TypeBlobs, Status: http.StatusConflict, Title: "content is missing", Missing: missing, Fix: "send it to /api/v1/blobs first"})
		return
	}
	r, fresh, err := s.Store.AddRevision(ctx, ground, in.Sources, m, who(c))
	if err != nil {
		s.refuse(c, err)
		return
	}
	c.JSON(map[bool]int{true: http.StatusCreated, false: http.StatusOK}[fresh], revisionOf(r))
}

// ListRevisions lists the revisions of a ground.
func (s *Server) ListRevisions(c *gin.Context, ground contract.InGround) {
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	list, err := s.Store.Revisions(c.Request.Context(), g.ID)
	if err != nil {
		s.refuse(c, err)
		return
	}
	out := []contract.Revision{}
	for _, r := range list {
		out = append(out, revisionOf(r))
	}
	c.JSON(http.StatusOK, out)
}

// ForgetGround forgets a ground, or some of its hosts.
func (s *Server) ForgetGround(c *gin.Context, ground contract.InGround, params contract.ForgetGroundParams) {
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	if err := s.Jobs.Forget(c.Request.Context(), g, params.Host, params.Regardless); err != nil {
		s.refuse(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// newest returns a ground's newest declaration; false says that the request has
// been refused.
func (s *Server) newest(c *gin.Context, g store.Ground) (*declare.Declaration, int, bool) {
	d, err := s.Jobs.Declaration(c.Request.Context(), g.ID, g.Newest)
	if err != nil {
		s.refuse(c, err)
	}
	return d, g.Newest, err == nil
}

func rowsOf(h store.PlaceState) ([]plan.Row, error) {
	rows := []plan.Row{}
	if len(h.Rows) == 0 {
		return rows, nil
	}
	return rows, json.Unmarshal(h.Rows, &rows)
}

func timeOf(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

// hostOf is how a place is declared as a host: what is none has nothing of it.
func hostOf(d *declare.Declaration, name string) *declare.Host {
	if h := d.Hosts[name]; h != nil {
		return h
	}
	return &declare.Host{}
}

// needsNoTrust says whether a place is known without a trusted key of its own.
func needsNoTrust(d *declare.Declaration, name string) bool {
	if d.SortOf(name) != declare.HostSort {
		return true
	}
	via, _ := d.Hosts[name].Transport()
	way, err := reach.TransportOf(via)
	return err == nil && !way.Trusts || len(d.AuthoritiesOf(name)) > 0
}

// GetGround shows a ground with its hosts as they were last seen.
func (s *Server) GetGround(c *gin.Context, ground contract.InGround, params contract.GetGroundParams) {
	ctx := c.Request.Context()
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	d, n, ok := s.newest(c, g)
	if !ok {
		return
	}
	hosts, err := d.Choose(params.On)
	if err != nil {
		s.refuse(c, err)
		return
	}
	r, err := s.Store.Revision(ctx, g.ID, n)
	if err != nil {
		s.refuse(c, err)
		return
	}
	states, err := s.Store.PlaceStates(ctx, g.ID)
	if err != nil {
		s.refuse(c, err)
		return
	}
	trusted, err := s.Store.TrustedHosts(ctx, g.ID)
	if err != nil {
		s.refuse(c, err)
		return
	}
	out := contract.GroundView{Name: g.Name, About: d.Ground.About, Revision: revisionOf(r), Hosts: []contract.PlaceBrief{}, Sites: []contract.SiteBrief{}}
	for _, name := range hosts {
		st := states[name]
		rows, err := rowsOf(st)
		if err != nil {
			s.refuse(c, err)
			return
		}
		sites := d.SitesOn(name)
		if sites == nil {
			sites = []string{}
		}
		var traits wire.Traits
		if len(st.Traits) > 0 {
			if err := json.Unmarshal(st.Traits, &traits); err != nil {
				s.refuse(c, err)
				return
			}
		}
		container, engine := d.InContainer(name)
		out.Hosts = append(out.Hosts, contract.PlaceBrief{Container: container, Engine: engine, Name: name, Sort: d.OtherSort(name), Address: hostOf(d, name).Address, Sites: sites, Trusted: trusted[name] || needsNoTrust(d, name), Via: hostOf(d, name).Via,
			Counts: jobs.CountsOf(rows), SeenAt: timeOf(st.SeenAt), Unread: st.Unread, Revision: st.Revision, RestartNeeded: traits.RestartNeeded})
	}
	for _, name := range d.SiteNames() {
		hosts := d.HostsOf(name)
		out.Sites = append(out.Sites, contract.SiteBrief{Name: name, Names: d.Sites[name].Names, Hosts: hosts})
	}
	if plans, err := s.Store.Tasks(ctx, store.Plans, g.ID, 1); err != nil {
		s.refuse(c, err)
		return
	} else if len(plans) > 0 {
		out.LastPlan = planBrief(plans[0])
	}
	if runs, err := s.Store.Runs(ctx, g.ID, 1); err != nil {
		s.refuse(c, err)
		return
	} else if len(runs) > 0 {
		out.LastRun = runBrief(runs[0])
	}
	c.JSON(http.StatusOK, out)
}

// GetHost shows a host as it was last seen.
func (s *Server) GetHost(c *gin.Context, ground contract.InGround, host contract.OnHost) {
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	d, _, ok := s.newest(c, g)
	if !ok {
		return
	}
	is := hostOf(d, host)
	if d.SortOf(host) == "" {
		s.refuse(c, jobs.Unknown{Host: host})
		return
	}
	states, err := s.Store.PlaceStates(c.Request.Context(), g.ID)
	if err != nil {
		s.refuse(c, err)
		return
	}
	keys, err := s.Store.HostKeys(c.Request.Context(), g.ID, host)
	if err != nil {
		s.refuse(c, err)
		return
	}
	st := states[host]
	container, engine := d.InContainer(host)
	out := contract.PlaceView{Container: container, Engine: engine, Name: host, Sort: d.OtherSort(host), Address: is.Address, Trusted: len(keys) > 0 || needsNoTrust(d, host), Via: is.Via, Revision: st.Revision, SeenAt: timeOf(st.SeenAt), Unread: st.Unread,
		Labels: d.LabelsOf(host), Kits: d.Taken(is.Kits), Givens: d.GivensOf(host)}
	if out.Rows, err = rowsOf(st); err != nil {
		s.refuse(c, err)
		return
	}
	if len(st.Traits) > 0 {
		if err := json.Unmarshal(st.Traits, &out.Traits); err != nil {
			s.refuse(c, err)
			return
		}
		out.Claims = jobs.Claims(d, host, out.Traits)
	}
	c.JSON(http.StatusOK, out)
}

// GetHostKeys asks a host for its keys.
func (s *Server) GetHostKeys(c *gin.Context, ground contract.InGround, host contract.OnHost) {
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	keys, err := s.Jobs.HostKeys(c.Request.Context(), g, host)
	if err != nil {
		s.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, keys)
}

// TrustHost trusts the keys that a host offers, when one has the fingerprint
// that a person has compared.
func (s *Server) TrustHost(c *gin.Context, ground contract.InGround, host contract.OnHost) {
	var in contract.TrustHostJSONBody
	if !body(c, &in) {
		return
	}
	g, ok := s.ground(c, ground)
	if !ok {
		return
	}
	keys, err := s.Jobs.HostKeys(c.Request.Context(), g, host)
	if err != nil {
		s.refuse(c, err)
		return
	}
	for _, k := range keys.Offered {
		if k.Fingerprint != in.Fingerprint {
			continue
		}
		if keys.Warning != "" {
			problem(c, contract.Problem{Status: http.StatusConflict, Title: keys.Warning, Fix: "correct the addresses in the declaration; nothing was trusted"})
			return
		}
		// Only what was compared is trusted: this one, and those that were before and are still offered.
		trusted := []contract.HostKey{k}
		for _, before := range keys.Trusted {
			if before.Fingerprint != k.Fingerprint && slices.ContainsFunc(keys.Offered, func(o contract.HostKey) bool { return o.Fingerprint == before.Fingerprint }) {
				trusted = append(trusted, before)
			}
		}
		if err := s.Store.Trust(c.Request.Context(), g.ID, host, trusted, who(c)); err != nil {
			s.refuse(c, err)
			return
		}
		s.Log.Info("host trusted", "ground", ground, "host", host, "fingerprint", in.Fingerprint, "by", who(c))
		keys.Trusted = trusted
		c.JSON(http.StatusOK, keys)
		return
	}
	problem(c, contract.Problem{Status: http.StatusConflict, Title: fmt.Sprintf("host %s offers no key with the fingerprint %s", host, in.Fingerprint),
		Fix: "compare the fingerprints again; nothing was trusted"})
}
