package plan

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"northstake/core/stake"
	"northstake/core/wire"
)

// former adds to a host what a run brought about there, where nothing of it was, and what
// nobody declares any more.
func former(in Input, typ, name string, want, found any) Input {
	local := wire.Local(typ, name)
	in.Applied[local] = Applied{Type: typ, Name: name, Want: wire.JSON(want), Revision: 3, Made: true, Fresh: true}
	in.Readings[local] = wire.Reading{Name: local, Found: wire.JSON(found)}
	return in
}

func link(to string) wire.Entry { return wire.Entry{Kind: "link", Target: to} }

// cleared is a host with much that is not declared any more.
func cleared(t *testing.T) Input {
	t.Helper()
	in := remembered(t)
	yes := true
	in = former(in, "package", "tide-tools", wire.PackageWant{Name: "tide-tools"}, wire.PackageFound{State: "installed", Version: "2.0", With: []string{"tide-charts"}})
	in = former(in, "package", "tide-charts", wire.PackageWant{Name: "tide-charts"}, wire.PackageFound{State: "installed", Version: "2.1", Orphans: []string{"curl", "libtide3"}})
	in = former(in, "service", "tided", wire.ServiceWant{Name: "tided", Running: &yes, AtBoot: &yes}, wire.ServiceFound{Known: true, Active: "active", Boot: "enabled"})
	in = former(in, "directory", "/etc/tides", wire.DirectoryWant{Path: "/etc/tides"}, wire.DirectoryFound{Entry: file("directory"), Holds: []string{"now", "table.conf"}})
	in = former(in, "file", "/etc/tides/table.conf", wire.FileWant{Path: "/etc/tides/table.conf", Text: "spring\n"}, wire.FileFound{Entry: file("file"), Text: "spring\n"})
	in = former(in, "link", "/etc/tides/now", wire.LinkWant{Path: "/etc/tides/now", PointsTo: "table.conf"}, link("table.conf"))
	in = former(in, "account", "tides", wire.AccountWant{Name: "tides"}, wire.AccountFound{Known: true, System: true, ID: 998})
	return former(in, "content", "/srv/tides", wire.ContentWant{Root: "/srv/tides"}, wire.ContentFound{Root: file("directory"), Former: []wire.FormerFile{{Path: "a.html"}, {Path: "b.html", Changed: true}}, Extras: 1})
}

func cautions(h Place) string {
	var out []string
	for _, n := range h.Cautions {
		out = append(out, n.What+"; "+n.Fix)
	}
	return strings.Join(out, "\n")
}

// What nobody declares any more stays, and the plan says so before anything else.
func TestWhatIsNoLongerDeclaredIsSaidFirst(t *testing.T) {
	in := cleared(t)
	h := build(t, in)
	if len(h.Steps) > 0 {
		t.Errorf("the plan is to %s", strings.Join(texts(h), "; "))
	}
	if got := cautions(h); !strings.HasPrefix(got, "brought about earlier, not declared now, and still there: package/tide-charts, package/tide-tools, account/tides, directory/etc/tides, content/srv/tides, ") || !strings.Contains(got, "northstake plan --clear") {
		t.Errorf("the plan says: %s", got)
	}
	if h, err := Build(in, func(Row) bool { return true }); err != nil || len(h.Cautions) > 0 {
		t.Errorf("a plan of a part of it: %v, %+v", err, h.Cautions)
	}
}

// What goes goes in an order in which nothing is missed by what is still there, and only
// what runs made; what holds people's things only by its name.
func TestWhatIsClearedGoesInOrder(t *testing.T) {
	in := cleared(t)
	in.Clears = true
	h := build(t, in)
	want := []string{"stop tided, keep it from starting at boot", "take away the link /etc/tides/now", "take away /etc/tides/table.conf", "take away directory /etc/tides",
		"remove package tide-charts 2.1, and what came along with it: libtide3", "remove package tide-tools 2.0, and with it tide-charts"}
	if got := texts(h); !slices.Equal(got, want) {
		t.Errorf("the plan is to\n%s", strings.Join(got, "\n"))
	}
	if got := cautions(h); !strings.Contains(got, "still there: account/tides, content/srv/tides; ") || !strings.Contains(got, "--clear --removing quay1/account/tides,quay1/content/srv/tides") {
		t.Errorf("the plan says: %s", got)
	}

	in.Removing = []string{"quay1/content/srv/tides", "quay1/account/tides"}
	h = build(t, in)
	if got := texts(h); !slices.Contains(got, "take away what was published at /srv/tides, 2 files, of which 1 was changed on the host since, and leave 1 file that nobody declared") || !slices.Contains(got, "take away system account tides") {
		t.Errorf("with names the plan is to\n%s", strings.Join(got, "\n"))
	}
	for _, s := range h.Steps {
		if confirmed := s.Type == "content" || s.Type == "account"; confirmed != (len(s.Removes) > 0) {
			t.Errorf("%s removes %v", s.Text, s.Removes)
		}
	}
	if moved := Moved(h, build(t, in), false); moved != "" {
		t.Errorf("the same plan twice: %s", moved)
	}
	in.Removing = []string{"quay1/content/srv/tide", "quay2/content/srv/tides", "quay1/content/srv/www/timetable"}
	if h := build(t, in); len(h.Blockers) != 2 || h.Blockers[0].Address != "quay1/content/srv/tide" {
		t.Errorf("names of nothing that goes: %+v", h.Blockers)
	}
	a := in.Applied["file/etc/tides/table.conf"]
	a.Fresh = false
	in.Applied["file/etc/tides/table.conf"], in.Removing = a, []string{"quay1/file/etc/tides/table.conf"}
	if h := build(t, in); len(h.Blockers) != 1 || !strings.Contains(h.Blockers[0].What, "was there before a run changed it") {
		t.Errorf("the name of what was there before: %+v", h.Blockers)
	}
	if in.Resumed = true; len(build(t, in).Blockers) > 0 {
		t.Error("a run of which that part is done already is blocked")
	}
}

// What was changed since, was there before, or is needed by something else, stays, and the
// plan says why.
func TestWhatIsNotOursOrIsNeededStays(t *testing.T) {
	for local, c := range map[string]struct {
		change func(in *Input)
		says   string
	}{
		"file/etc/tides/table.conf": {func(in *Input) {
			*in = set(*in, "file/etc/tides/table.conf", wire.FileFound{Entry: file("file"), Text: "neap\n"})
		}, "/etc/tides/table.conf was changed since it was brought about, and stays"},
		"link/etc/tides/now": {func(in *Input) { *in = set(*in, "link/etc/tides/now", link("else")) }, "/etc/tides/now was changed since"},
		"directory/etc/tides": {func(in *Input) {
			*in = set(*in, "directory/etc/tides", wire.DirectoryFound{Entry: file("directory"), Holds: []string{"now", "table.conf", "theirs"}})
		}, "/etc/tides holds something, and stays"},
		"package/tide-tools": {func(in *Input) {
			*in = set(*in, "package/tide-tools", wire.PackageFound{State: "installed", Version: "2.0", With: []string{"tide-charts", "harbour"}})
		}, "package tide-tools stays: harbour needs it"},
		"package/tide-charts": {func(in *Input) {
			*in = set(*in, "package/tide-charts", wire.PackageFound{State: "installed", Version: "2.1", Services: []string{"cron"}})
		}, "package/tide-charts stays: service/cron needs it; declare it, or take out what needs it: g.toml:"},
		"service/tided": {func(in *Input) { a := in.Applied["service/tided"]; a.Fresh = false; in.Applied["service/tided"] = a }, "still there: account/tides, content/srv/tides, service/tided; "},
		"account/tides": {func(in *Input) {
			a := in.Applied["account/tides"]
			a.Fresh = false
			in.Applied["account/tides"], in.Removing = a, []string{"quay1/account/tides"}
		}, "account tides was not made by North Stake, and stays"},
	} {
		in := cleared(t)
		in.Clears = true
		c.change(&in)
		h := build(t, in)
		if slices.ContainsFunc(h.Steps, func(s wire.Step) bool { return s.Address == "quay1/"+local }) {
			t.Errorf("%s goes: %s", local, strings.Join(texts(h), "; "))
		}
		if got := cautions(h); !strings.Contains(got, c.says) {
			t.Errorf("%s: the plan says: %s", local, got)
		}
	}
}

// Only what a run made where nothing was is forgotten to have been there before; what was
// there already stays known as such, however often it is brought about again.
func TestWhatWasThereBeforeStaysKnown(t *testing.T) {
	in := bare(input(t))
	h := build(t, in)
	worked := map[string]bool{}
	for _, r := range h.Rows {
		worked[r.Address] = r.Absent
	}
	worked["quay1/package/curl"] = false // it was there
	in = asDeclared(in)
	h = build(t, in)
	remembered, _ := Remember(in, &h, worked, 1, h.Rows[0].SetAt)
	if !remembered["package/nginx"].Fresh || remembered["package/curl"].Fresh {
		t.Errorf("fresh: nginx %t, curl %t", remembered["package/nginx"].Fresh, remembered["package/curl"].Fresh)
	}
	in.Applied = remembered
	for name := range remembered {
		worked["quay1/"+name] = name == "package/curl"
	}
	again, _ := Remember(in, &h, worked, 2, h.Rows[0].SetAt)
	if !again["package/nginx"].Fresh || again["package/curl"].Fresh {
		t.Errorf("brought about again: nginx %t, curl %t", again["package/nginx"].Fresh, again["package/curl"].Fresh)
	}
}

// Of many that leave, what kind goes after what kind stays as it is, whichever of them take others along
// (W12).
func TestWhatTakesOthersAlongGoesLastOfItsKind(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 0))
	var all []leaver
	var types []string
	for range 200 {
		l := leaver{judged: judged{stake: stake.Stake{Type: []string{"container", "service", "package", "file"}[random.IntN(4)]}}}
		l.verdict.Takes = make([]string, random.IntN(3))
		all, types = append(all, l), append(types, l.stake.Type)
	}
	seen := map[string]int{}
	for i, l := range lastTakers(all) {
		if l.stake.Type != types[i] {
			t.Fatalf("%d is a %s, and was a %s", i, l.stake.Type, types[i])
		}
		if n := len(l.verdict.Takes); n < seen[l.stake.Type] {
			t.Errorf("a %s that takes %d along comes after one that takes %d", l.stake.Type, n, seen[l.stake.Type])
		} else {
			seen[l.stake.Type] = n
		}
	}
}
