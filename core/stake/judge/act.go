package judge

import (
	"fmt"
	"slices"
	"strings"

	"northstake/core/stake"
	"northstake/core/wire"
)

var _ = stake.Judged("act", stake.Judgement{
	Judge: stake.Judging(judgeAct),
	MayCutAccess: workMayCut(func(access *wire.Access, w wire.ActWork) bool {
		return access.RestsOnService(w.Service) || slices.ContainsFunc(w.Upgrades, func(g wire.PackageGoal) bool { return access.RestsOnPackages(g.Name) })
	}),
})

func judgeAct(in stake.Input, w wire.ActWant, f wire.ActFound) stake.Verdict {
	judge, known := actJudges[w.Do]
	v := stake.Verdict{Differences: []wire.Difference{{Attribute: "asked for", Wanted: string(w.Do), Found: "not done"}}}
	if !known {
		return blockedVerdict(v, in, fmt.Sprintf("nothing is known that is called %q", w.Do), "it is one of "+wire.ActNames())
	}
	return judge(in, w, f, v)
}

// blockedVerdict is a verdict with something more in the way.
func blockedVerdict(v stake.Verdict, in stake.Input, what, fix string) stake.Verdict {
	v.Blockers = append(v.Blockers, stake.Note{Address: in.Stake.Address(), What: what, Fix: fix})
	return v
}

// actJudges say what would do each act, or what is in its way: v says that it was asked for.
var actJudges = map[wire.Act]func(in stake.Input, w wire.ActWant, f wire.ActFound, v stake.Verdict) stake.Verdict{
	"restart": judgeTelling, "reload": judgeTelling, wire.RefreshLists: judgeRefreshing,
	"upgrade": judgeUpgrade, wire.MakeImage: judgeMakingImage, "reboot": judgeReboot,
}

// judgeTelling is of services that are told to restart, or to reload.
func judgeTelling(in stake.Input, w wire.ActWant, f wire.ActFound, v stake.Verdict) stake.Verdict {
	switch {
	case !f.Known:
		return blockedVerdict(v, in, fmt.Sprintf("no unit on this host is called %s", w.Service), "check the name"+nearWords(f.Here, f.Near))
	case !f.Running:
		return blockedVerdict(v, in, fmt.Sprintf("%s does not run, so that it cannot %s", w.Service, w.Do), "declare that it runs, and apply that")
	case w.Do == "reload" && f.NoReload:
		return blockedVerdict(v, in, fmt.Sprintf("%s cannot reload: it takes notice of a change by a restart alone", w.Service), "restart it")
	}
	move := wire.Move{Verb: string(w.Do), Text: string(w.Do) + " " + w.Service + " now", Work: wire.JSON(wire.ActWork{ActWant: w})}
	if wire.FiltersItself(w.Service) {
		move.Confirm, move.Details = true, []wire.Detail{armed}
	}
	v.Moves = []wire.Move{move}
	return v
}

func judgeRefreshing(_ stake.Input, w wire.ActWant, f wire.ActFound, v stake.Verdict) stake.Verdict {
	v.Moves = []wire.Move{{Verb: "read", Text: "read the lists of what the package sources offer anew, with " + f.Manager, Work: wire.JSON(wire.ActWork{ActWant: w})}}
	return v
}

// judgeUpgrade leaves what is declared in a version.
func judgeUpgrade(in stake.Input, w wire.ActWant, f wire.ActFound, v stake.Verdict) stake.Verdict {
	work := wire.ActWork{ActWant: w}
	var left, lines []string
	for _, u := range f.Upgrades {
		if slices.Contains(w.Leave, u.Name) {
			left = append(left, u.Name)
			continue
		}
		work.Upgrades = append(work.Upgrades, u)
		lines = append(lines, strings.TrimSpace(fmt.Sprintf("%s %s in place of %s", u.Name, u.Version, u.From)))
	}
	if len(left) > 0 {
		v.Cautions = []stake.Note{{Address: in.Stake.Address(), What: fmt.Sprintf("%s stays as it is: its version is declared", strings.Join(left, ", ")), Fix: "declare another version, and apply that"}}
	}
	if len(work.Upgrades) == 0 {
		v.Differences = nil
		return v
	}
	slices.Sort(lines)
	v.Moves = []wire.Move{{Verb: "upgrade", Text: "upgrade " + count(len(work.Upgrades), "package", "packages"),
		Details: []wire.Detail{{Title: "packages", Text: strings.Join(lines, "\n")}}, Work: wire.JSON(work)}}
	return v
}

func judgeMakingImage(in stake.Input, w wire.ActWant, f wire.ActFound, v stake.Verdict) stake.Verdict {
	switch {
	case f.Engine != nil:
		return blockedVerdict(v, in, f.Engine.What, f.Engine.Fix)
	case !f.Known:
		return blockedVerdict(v, in, fmt.Sprintf("there is no container called %s", w.Container), "make it, or correct the name")
	case w.Unlike != "":
		return blockedVerdict(v, in, w.Unlike, fmt.Sprintf("an image says which revision it holds: northstake apply it, or northstake survey --on %s, and make it then", w.Host))
	case w.Login != nil && w.Login.Lacks != "":
		return blockedVerdict(v, in, w.Login.Lacks, fmt.Sprintf("northstake secret keep %s takes it", w.Login.Secret))
	}
	v.Cautions = []stake.Note{{Address: in.Stake.Address(), What: "everything in the container goes into the image, the secrets that it was given among it; only what North Stake keeps there for itself is left out", Fix: "push it to no registry that people can read who may not know these secrets"}}
	v.Moves = []wire.Move{{Verb: "make", Text: fmt.Sprintf("make image %[4]s of container %[1]s, which is host %[2]s as revision %[3]d declares it, and push it to its registry", w.Container, w.Host, w.Revision, w.Image), Work: wire.JSON(wire.ActWork{ActWant: w})}}
	return v
}

func judgeReboot(in stake.Input, w wire.ActWant, _ wire.ActFound, v stake.Verdict) stake.Verdict {
	if in.Traits.ServiceManager != "" && in.Traits.ServiceManager != wire.Systemd {
		return blockedVerdict(v, in, "this host has no systemd, which is told to restart it", "restart it by its own means; northstake survey sees it again afterwards")
	}
	v.Moves = []wire.Move{restartMove("restart the host, and wait for it", "", wire.ActWork{ActWant: w})}
	return v
}
