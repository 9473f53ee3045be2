package plan

import (
	"strings"
	"testing"

	"northstake/core/stake"
	_ "northstake/core/stake/kinds"
	"northstake/core/wire"
	"northstake/host/family"
)

// mute is a kind that says nothing of the way in.
var _ = stake.Register(stake.Kind{Type: "mute"})

// Every kind is judged, and says how it stands to the way in, so that nothing is held without need.
func TestEveryKindSaysWhetherItCanShutTheWayIn(t *testing.T) {
	for _, typ := range append(stake.Types(), "site", "act") {
		if k, err := stake.KindOf(typ); err != nil || typ != "mute" && (k.MayCutAccess == nil || k.Judge == nil) {
			t.Errorf("%s says nothing of it, or is not judged: %v", typ, err)
		}
	}
}

// Which steps are held, and which have to be named, is told by what they change.
func TestStepsOnTheWayIn(t *testing.T) {
	to := func(user string, sudo bool, at ...wire.Path) *wire.Access {
		way := family.WayIn(user)
		way.Sudo, way.Paths = sudo, append(way.Paths, at...)
		return &way
	}
	way := to("keeper", true)
	file := func(path string) wire.Step { return wire.Step{Type: "file", Name: path, Address: "quay1/file" + path} }
	packages := func(w wire.PackageWork) wire.Step {
		return wire.Step{Type: "package", Name: "x", Address: "quay1/package/x", Move: wire.Move{Text: "x", Work: wire.JSON(w)}}
	}
	for _, c := range []struct {
		what  string
		way   *wire.Access
		step  wire.Step
		held  bool
		named string
	}{
		{"sshd's configuration", way, file("/etc/ssh/sshd_config.d/50-x.conf"), true, ""},
		{"a key of the user", way, file("/home/keeper/.ssh/authorized_keys"), true, ""},
		{"a key of another", way, file("/home/other/.ssh/authorized_keys"), false, ""},
		{"what lies above it", way, wire.Step{Type: "directory", Name: "/home", Address: "quay1/directory/home"}, true, ""},
		{"what the SSH service is started with", way, file("/etc/default/ssh"), true, ""},
		{"what is added to its unit", way, file("/run/systemd/system/sshd.service.d/x.conf"), true, ""},
		{"what is added to all units", way, file("/etc/systemd/system/service.d/x.conf"), true, ""},
		{"what has it start at boot", way, file("/etc/systemd/system/multi-user.target.wants/ssh.service"), true, ""},
		{"another unit", way, file("/etc/systemd/system/tides.service"), false, ""},
		{"where the host says that keys lie", to("keeper", false, "/srv/keys/keeper"), file("/srv/keys/keeper"), true, ""},
		{"keys of others beside those", to("keeper", false, "/srv/keys/keeper"), file("/srv/keys/other"), false, ""},
		{"what lies above those", to("keeper", false, "/srv/keys/keeper"), wire.Step{Type: "directory", Name: "/srv", Address: "quay1/directory/srv"}, true, ""},
		{"a site's file", way, file("/etc/nginx/conf.d/x.conf"), false, ""},
		{"the user", way, wire.Step{Type: "account", Name: "keeper", Address: "quay1/account/keeper"}, true, ""},
		{"another user", way, wire.Step{Type: "account", Name: "other", Address: "quay1/account/other"}, false, ""},
		{"the SSH service", way, wire.Step{Type: "service", Name: "ssh", Address: "quay1/service/ssh"}, true, ""},
		{"a web server", way, wire.Step{Type: "service", Name: "nginx", Address: "quay1/service/nginx"}, false, ""},
		{"sudo, newer", way, packages(wire.PackageWork{Install: []wire.PackageGoal{{Name: "sudo"}}}), true, ""},
		{"sudo, once more", way, packages(wire.PackageWork{Reinstall: "sudo"}), true, ""},
		{"the SSH server, to its end", way, packages(wire.PackageWork{Finish: "openssh-server"}), true, ""},
		{"another package, once more", way, packages(wire.PackageWork{Reinstall: "telnet"}), false, ""},
		{"sudo, off", way, packages(wire.PackageWork{Remove: "sudo"}), false, "package sudo"},
		{"sudo, off, where root logs in", to("root", false), packages(wire.PackageWork{Remove: "sudo"}), true, ""},
		{"the SSH server, along with another", way, packages(wire.PackageWork{Remove: "libtide", With: []string{"openssh-server"}}), false, "package openssh-server"},
		{"another package, off", way, packages(wire.PackageWork{Remove: "telnet"}), false, ""},
		{"what says nothing of the way in", way, wire.Step{Type: "mute", Name: "x", Address: "quay1/mute/x"}, true, ""},
		{"what nobody knows", way, wire.Step{Type: "unheard-of", Name: "x", Address: "quay1/unheard-of/x"}, true, ""},
		{"what says nothing, on a host that cannot be shut", nil, wire.Step{Type: "mute", Name: "x", Address: "quay1/mute/x"}, false, ""},
		{"anything on a host whose way in it is not", nil, file("/etc/ssh/sshd_config"), false, ""},
		{"sudo, off, on such a host", nil, packages(wire.PackageWork{Remove: "sudo"}), false, ""},
	} {
		steps := []wire.Step{c.step}
		cautions := guard(c.way, steps)
		s := steps[0]
		if s.Confirm != c.held || s.Whole != c.held || s.Shuts != (c.named != "") || len(cautions) != len(s.Removes) || !strings.Contains(strings.Join(s.Removes, ""), c.named) || c.named == "" && len(s.Removes) > 0 {
			t.Errorf("%s: held %t, named %q, shuts %t, cautions %v", c.what, s.Confirm, s.Removes, s.Shuts, cautions)
		}
	}
}

// What a step could not take back holds up what has to do with the same things, by whatever kind of
// stake, and nothing else (C4).
func TestWhatAStepHoldsUp(t *testing.T) {
	known := func(s wire.Step) wire.Step {
		kind, err := stake.KindOf(s.Type)
		if err != nil {
			t.Fatal(err)
		}
		s.AlsoAt = alsoAt(kind, s.Work)
		return s
	}
	site := known(wire.Step{Type: "site", Name: "timetable", Address: "quay1/site/timetable", Move: wire.Move{Work: wire.JSON(wire.SiteWork{SiteWant: wire.SiteWant{File: "/etc/nginx/sites-available/timetable", Link: "/etc/nginx/sites-enabled/timetable"}})}})
	file := func(path string) wire.Step { return wire.Step{Type: "file", Name: path, Address: "quay1/file" + path} }
	dropIn := known(wire.Step{Type: "service", Name: "nginx", Address: "quay1/service/nginx", Move: wire.Move{Work: wire.JSON(wire.ServiceWork{DropIns: map[string]string{"/etc/systemd/system/nginx.service.d/x.conf": "x"}})}})
	pkg := func(name string) wire.Step {
		return wire.Step{Type: "package", Name: name, Address: "quay1/package/" + name}
	}
	for _, c := range []struct {
		a, b wire.Step
		is   bool
	}{
		{site, file("/etc/nginx/sites-available/timetable"), true},
		{site, file("/etc/nginx/sites-enabled/timetable"), true},
		{site, file("/etc/nginx/sites-available/timetable:tides"), true},
		{site, file("/etc/nginx/sites-available/timetables"), false},
		{site, wire.Step{Type: "directory", Name: "/etc/nginx", Address: "quay1/directory/etc/nginx"}, true},
		{dropIn, file("/etc/systemd/system/nginx.service.d/x.conf"), true},
		{dropIn, file("/etc/systemd/system/httpd.service.d/x.conf"), false},
		{pkg("curl"), pkg("cron"), true},
		{pkg("curl"), file("/etc/curl"), false},
		{file("/srv/a"), file("/srv/a"), true},
		{file("/srv/a"), file("/srv/ab"), false},
	} {
		for _, two := range [][2]wire.Step{{c.a, c.b}, {c.b, c.a}} {
			stuck := wire.StuckStep{Type: two[1].Type, Name: two[1].Name, Stakes: two[1].Addresses(), Paths: two[1].Paths()}
			if two[0].Touches(stuck) != c.is {
				t.Errorf("%s touches %s: %t", two[0].Address, two[1].Address, !c.is)
			}
		}
	}
}
