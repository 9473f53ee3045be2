package containers

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"northstake/e2e/stage"
	"northstake/lab"
	"northstake/service/contract"
)

// A container of the service's own engine, with systemd inside, is a host like any other: no SSH
// leads there. What is declared is brought about, found broken, put back, and carried on with
// after the rod or the whole container was killed.
func TestAContainerIsAHost(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	host := g.Hosts[0]
	// The practice host is a container; its SSH server is put away.
	text := func(more string) string {
		return fmt.Sprintf("[ground]\nname = %q\n[host.berth]\nvia = \"container\"\ninside = %q\nkits = [\"base\"]\n"+
			"[kit.base]\npackages = [\"cron\"]\nservice = { cron = { running = true, at_boot = true } }\n[kit.base.file.\"/etc/motd\"]\ntext = \"Kept by North Stake.\\n\"\n[kit.base.account.mate]\n"+
			"[site.timetable]\non = [\"berth\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n[[site.timetable.probe]]\npath = \"/\"\ncontains = \"Next sailing\"\n%s", g.Name, host, more)
	}
	g.Beside("ground.toml", text(""))
	g.On(host, "systemctl mask --now ssh.service ssh.socket 2>&1; pkill sshd; true")
	g.Ns(0, "declare", g.Dir)
	if out := g.Ns(0, "hosts", g.Name); !strings.Contains(out, "container "+host+" on the service's machine") || strings.Contains(out, "not trusted") {
		t.Errorf("the hosts are\n%s", out)
	}
	g.Apply(0)
	g.NothingToDo()
	if status, body := g.Fetch(host, "/"); status != 200 || !strings.Contains(body, "Next sailing") {
		t.Errorf("it answers %d: %s", status, body)
	}
	if got := g.On(host, "cat /etc/motd; id mate; systemctl is-enabled cron nginx"); !strings.Contains(got, "Kept by North Stake") || !strings.Contains(got, "(mate)") || strings.Count(got, "enabled") != 2 {
		t.Errorf("inside there is %s", got)
	}
	if out := g.Ns(0, "probe", g.Name); strings.Count(out, "200") < 2 {
		t.Errorf("the probes say\n%s", out)
	}
	for _, hand := range []string{"systemctl stop nginx", "echo other > /etc/motd", "userdel mate", "rm /srv/www/timetable/index.html", "systemctl disable -q cron", "apt-get purge -y -q cron >/dev/null"} {
		g.On(host, hand)
		g.Ns(1, "drift", g.Name)
		g.Ns(0, "restore", g.Name, "--yes")
		g.Ns(0, "drift", g.Name)
	}
	// The rod is killed, and the container, at every boundary of a step.
	g.Content("index.html", stage.Page("two"))
	g.Beside("ground.toml", text("[site.timetable.headers]\nX-Office = \"north\"\n"))
	g.Ns(0, "declare", g.Dir)
	reload := func(s contract.Step) bool { return s.Type == "service" } // which a resumed run finds done
	g.Killed(g.Plan(1), []string{"content", "site"}, reload, stage.Boundaries, stage.KillRod, stage.ResumeByHand)
	g.NothingToDo()
	g.Content("index.html", stage.Page("three"))
	g.Ns(0, "declare", g.Dir)
	g.Killed(g.Plan(1), []string{"content"}, func(contract.Step) bool { return false }, stage.Boundaries, func(g *stage.Ground, host string) {
		if err := stage.Lab().Kill(t.Context(), host); err != nil {
			t.Fatal(err)
		}
		if err := stage.Lab().Start(t.Context(), host); err != nil {
			t.Fatal(err)
		}
		g.On(host, stage.Started) // what a plan finds while it boots is not what it finds then
	}, stage.ResumeByHand)
	g.NothingToDo()
	if _, body := g.Fetch(host, "/"); !strings.Contains(body, "version three") {
		t.Errorf("it answers %s", body)
	}
	// Nothing of the rod is left running when the service lets go of it.
	if err := stage.Lab().Kill(t.Context(), host); err != nil {
		t.Fatal(err)
	}
	if out := g.Ns(2, "survey", g.Name); !strings.Contains(out, "container "+host+" does not run") {
		t.Errorf("of a container that does not run the survey says\n%s", out)
	}
	g.Beside("ground.toml", strings.Replace(text(""), "inside = \""+host+"\"", "inside = \"nowhere\"", 1))
	g.Ns(0, "declare", g.Dir)
	if out := g.Ns(2, "plan", g.Name); !strings.Contains(out, "there is no container called nowhere") {
		t.Errorf("of a container that is not there the plan says\n%s", out)
	}
}

// A container that a host's engine does not have yet is made by a plan, is a host by then, and is
// taken away by another plan. Nothing in it starts services but their scripts.
func TestAContainerHostIsMade(t *testing.T) {
	t.Parallel()
	g := stage.NewGroundOf(t, stage.Shared(), []lab.Family{lab.Debian.Able()}, stage.BareKit)
	at := stage.Registry(t)
	file, err := lab.RootOf(t.Context(), lab.Debian, os.Stderr)
	if err != nil {
		t.Fatal(err)
	}
	layer, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	// Its first process looks after those that lose their parent, as an init does.
	if err := lab.Push(t.Context(), at, "system", "1", lab.Image{Layer: layer, Command: []string{"/bin/sh", "-c", "trap 'exit 0' TERM; while :; do sleep 1 & wait; done"}, Env: []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin"}}); err != nil {
		t.Fatal(err)
	}
	engine := g.Hosts[0]
	declared := func(berth string) {
		t.Helper()
		text := fmt.Sprintf("[ground]\nname = %q\n[reach]\nuser = \"keeper\"\nkey_secret = \"keeper\"\nsudo = true\n[host.%s]\naddress = %q\nkits = [\"base\"]\n", g.Name, engine, g.Address(engine)) + stage.EngineKit(at) + berth
		g.Beside("ground.toml", text)
		g.Ns(0, "declare", g.Dir)
	}
	made := fmt.Sprintf("[host.%s.container.berth]\nimage = \"%s/system:1\"\n[host.berth]\nvia = \"container\"\nengine = %q\npackages = [\"cron\"]\ndirectory.\"/srv/quays\" = {}\n"+
		"[site.timetable]\non = [\"berth\"]\nserver = \"nginx\"\nnames = [\"timetable.saltmarsh.test\"]\nroot = \"/srv/www/timetable\"\ncontent = { dir = \"content\" }\n[[site.timetable.probe]]\npath = \"/\"\ncontains = \"Next sailing\"\n", engine, at, engine)
	declared(made)
	g.Trust()
	p := g.Plan(1)
	if got := fmt.Sprint(p.Hosts); !strings.Contains(got, "host berth is not there yet: "+engine+"/container/berth makes it") {
		t.Errorf("the plan says %s", got)
	}
	g.ApplyPlan(0, p.Id)
	p = g.Plan(1)
	if got := strings.Join(stage.Texts(p), "; "); !strings.Contains(got, "install") || !strings.Contains(fmt.Sprint(p.Hosts), "whether nginx comes up again with the host is a matter of its first process, sh") {
		t.Errorf("of the host that is there the plan is to %s: %+v", got, p.Hosts)
	}
	g.ApplyPlan(0, p.Id)
	g.NothingToDo()
	if out := g.Ns(0, "probe", g.Name); !strings.Contains(out, "inside") || !strings.Contains(out, "outside") {
		t.Errorf("the probes say\n%s", out)
	}
	if got := inside(g, engine, "podman exec berth sh -c 'test -d /srv/quays && cat /srv/www/timetable/index.html; /etc/init.d/nginx status'"); !strings.Contains(got, "Next sailing") || !strings.Contains(got, "running") {
		t.Errorf("inside there is %s", got)
	}
	if out := g.Ns(0, "show", "berth", "--ground", g.Name); !strings.Contains(out, "it is container berth on "+engine) || !strings.Contains(out, "init scripts") {
		t.Errorf("show says\n%s", out)
	}
	// What it has not the right to is refused in the plan.
	declared(strings.Replace(made, "packages = [\"cron\"]", "inbound = \"declared\"\npackages = [\"cron\", \"nftables\"]", 1))
	if got := fmt.Sprint(g.Plan(2).Hosts); !strings.Contains(got, "may set no packet filter") {
		t.Errorf("of inbound the plan says %s", got)
	}
	declared(made)
	g.NothingToDo()
	// What is done to it by hand is found, whichever way.
	inside(g, engine, "podman exec berth sh -c '/etc/init.d/nginx stop; rmdir /srv/quays'")
	if out := g.Ns(1, "drift", g.Name); !strings.Contains(out, "berth/service/nginx") || !strings.Contains(out, "berth/directory/srv/quays") {
		t.Errorf("drift says\n%s", out)
	}
	g.Ns(0, "restore", g.Name, "--yes")
	g.NothingToDo()
	// It is kept as an image, which says what it holds, and without what the rod keeps there; a
	// container of that image serves what it served.
	if out := g.Ns(2, "act", "make-image", at+"/berth:3", "--on", engine, "--ground", g.Name, "--yes"); !strings.Contains(out, "is no container") {
		t.Errorf("of a machine keep says %s", out)
	}
	inside(g, engine, "podman exec berth rm /srv/www/timetable/index.html")
	g.Ns(1, "survey", g.Name)
	if out := g.Ns(2, "act", "make-image", at+"/berth:3", "--on", "berth", "--ground", g.Name, "--yes"); !strings.Contains(out, "was not last seen as revision") {
		t.Errorf("of a host that has shifted keep says %s", out)
	}
	g.Ns(0, "restore", g.Name, "--yes")
	g.Ns(0, "act", "make-image", at+"/berth:3", "--on", "berth", "--ground", g.Name, "--yes")
	declared(made + fmt.Sprintf("[host.%s.container.second]\nimage = \"%s/berth:3\"\ncommand = [\"sh\", \"-c\", \"/etc/init.d/nginx start; trap 'exit 0' TERM; while :; do sleep 1 & wait; done\"]\n", engine, at))
	inside(g, engine, "podman rmi -f "+at+"/berth:3") // what is fetched is what the registry was given
	g.ApplyPlan(0, g.Plan(1).Id)
	if row := g.Survey(engine)["image/"+at+"/berth:3"]; !strings.Contains(row.Reason, "it is host berth of ground "+g.Name+", as revision ") {
		t.Errorf("of the image the survey says %+v", row)
	}
	if got := inside(g, engine, "podman exec second sh -c 'cat /srv/www/timetable/index.html; ls -A /var/lib/northstake 2>&1; /etc/init.d/nginx status'"); !strings.Contains(got, "Next sailing") || strings.Contains(got, "journal") || !strings.Contains(got, "is running") {
		t.Errorf("in the second one there is %s", got)
	}
	// It goes as it came.
	declared("")
	var clear contract.Plan
	stage.Decode(t, g.Ns(1, "plan", g.Name, "--clear", "--json"), &clear)
	g.ApplyPlan(0, clear.Id)
	if got := inside(g, engine, "podman ps -a --format '{{.Names}}'"); strings.TrimSpace(got) != "" {
		t.Errorf("there is still %s", got)
	}
}
