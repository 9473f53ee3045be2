package stake

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"northstake/core/wire"
)

// WithLogin is an act with the login of an image's registry, made of a secret.
func WithLogin(w wire.ActWant, secrets *Secrets) wire.ActWant {
	if w.ImageSecret != "" {
		w.Login = secrets.seal(w.ImageSecret, login)
	}
	return w
}

var _ = Register(Kind{
	Type: "act", Judge: Judging(judgeAct), Unsealed: unsealedAct,
	WayIn: workOnWay(func(way *wire.Way, w wire.ActWork) bool {
		return way.OnService(w.Service) || slices.ContainsFunc(w.Upgrades, func(g wire.PackageGoal) bool { return way.OnPackages(g.Name) })
	}),
})

func unsealedAct(raw json.RawMessage, secrets *Secrets) (json.RawMessage, error) {
	var w wire.ActWork
	if err := json.Unmarshal(raw, &w); err != nil || w.Login == nil {
		return raw, err
	}
	secrets.put(w.Login, login)
	return json.Marshal(w)
}

func judgeAct(in Input, w wire.ActWant, f wire.ActFound) Verdict {
	work := wire.ActWork{ActWant: w}
	asked := []wire.Difference{{Attribute: "asked for", Wanted: string(w.Do), Found: "not done"}}
	switch w.Do {
	case "restart", "reload":
		switch {
		case !f.Known:
			return Verdict{Differences: asked, Blockers: []Note{{in.Stake.Address(), fmt.Sprintf("no unit on this host is called %s", w.Service), "check the name" + nearWords(f.Here, f.Near)}}}
		case !f.Running:
			return Verdict{Differences: asked, Blockers: []Note{{in.Stake.Address(), fmt.Sprintf("%s does not run, so that it cannot %s", w.Service, w.Do), "declare that it runs, and apply that"}}}
		}
		if w.Do == "reload" && f.NoReload {
			return Verdict{Differences: asked, Blockers: []Note{{in.Stake.Address(), fmt.Sprintf("%s cannot reload: it takes notice of a change by a restart alone", w.Service), "restart it"}}}
		}
		move := wire.Move{Verb: string(w.Do), Text: string(w.Do) + " " + w.Service + " now", Work: wire.JSON(work)}
		if wire.FiltersItself(w.Service) {
			move.Confirm, move.Details = true, []wire.Detail{armed}
		}
		return Verdict{Differences: asked, Moves: []wire.Move{move}}
	case wire.RefreshLists:
		return Verdict{Differences: asked, Moves: []wire.Move{{Verb: "read", Text: "read the lists of what the package sources offer anew, with " + f.Manager, Work: wire.JSON(work)}}}
	case "upgrade":
		if len(f.Upgrades) == 0 {
			return Verdict{}
		}
		var left []string
		for _, u := range f.Upgrades {
			if slices.Contains(w.Leave, u.Name) {
				left = append(left, u.Name)
			} else {
				work.Upgrades = append(work.Upgrades, u)
			}
		}
		var cautions []Note
		if len(left) > 0 {
			cautions = []Note{{in.Stake.Address(), fmt.Sprintf("%s stays as it is: its version is declared", strings.Join(left, ", ")), "declare another version, and apply that"}}
		}
		if len(work.Upgrades) == 0 {
			return Verdict{Cautions: cautions}
		}
		var lines []string
		for _, u := range work.Upgrades {
			lines = append(lines, strings.TrimSpace(fmt.Sprintf("%s %s in place of %s", u.Name, u.Version, u.From)))
		}
		slices.Sort(lines)
		return Verdict{Differences: asked, Cautions: cautions, Moves: []wire.Move{{Verb: "upgrade", Text: "upgrade " + count(len(work.Upgrades), "package", "packages"),
			Details: []wire.Detail{{Title: "packages", Text: strings.Join(lines, "\n")}}, Work: wire.JSON(work)}}}
	case wire.MakeImage:
		v := Verdict{Differences: asked}
		block := func(what, fix string) { v.Blockers = append(v.Blockers, Note{in.Stake.Address(), what, fix}) }
		switch {
		case f.Engine != nil:
			block(f.Engine.What, f.Engine.Fix)
		case !f.Known:
			block(fmt.Sprintf("there is no container called %s", w.Container), "make it, or correct the name")
		case w.Unlike != "":
			block(w.Unlike, fmt.Sprintf("an image says which revision it holds: northstake apply it, or northstake survey --on %s, and make it then", w.Host))
		case w.Login != nil && w.Login.Lacks != "":
			block(w.Login.Lacks, fmt.Sprintf("northstake secret keep %s takes it", w.Login.Secret))
		}
		if len(v.Blockers) > 0 {
			return v
		}
		v.Cautions = []Note{{in.Stake.Address(), "everything in the container goes into the image, the secrets that it was given among it; only what North Stake keeps there for itself is left out", "push it to no registry that people can read who may not know these secrets"}}
		v.Moves = []wire.Move{{Verb: "make", Text: fmt.Sprintf("make image %[4]s of container %[1]s, which is host %[2]s as revision %[3]d declares it, and push it to its registry", w.Container, w.Host, w.Revision, w.Image), Work: wire.JSON(work)}}
		return v
	case "reboot":
		if in.Traits.ServiceManager != "" && in.Traits.ServiceManager != "systemd" {
			return Verdict{Differences: asked, Blockers: []Note{{in.Stake.Address(), "this host has no systemd, which is told to restart it", "restart it by its own means; northstake survey sees it again afterwards"}}}
		}
		return Verdict{Differences: asked, Moves: []wire.Move{restartMove("restart the host, and wait for it", "", work)}}
	}
	return Verdict{Differences: asked, Blockers: []Note{{in.Stake.Address(), fmt.Sprintf("nothing is known that is called %q", w.Do), "it is one of " + wire.ActNames()}}}
}
