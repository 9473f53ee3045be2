package family

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"

	"northstake/core/wire"
	"northstake/host/system/systemtest"
)

// Without systemd a service stands as its script says, and starts at boot where a
// link starts it.
func TestServicesByTheirScripts(t *testing.T) {
	m := machine(t, "ID=debian\n")
	if _, err := Services(context.Background(), m); err == nil || !strings.Contains(err.Error(), "neither systemd nor scripts") {
		t.Errorf("a machine without either: %v", err)
	}
	for _, name := range []string{"cron", "nginx", "README.txt"} {
		systemtest.Put(t, m, "/etc/init.d/"+name, "#!/bin/sh\n")
		if err := os.Chmod(m.Path(wire.Path("/etc/init.d/"+name)), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	systemtest.Put(t, m, "/etc/init.d/skeleton", "")
	systemtest.Put(t, m, "/etc/rc3.d/S01cron", "")
	systemtest.Put(t, m, "/etc/rc3.d/K01nginx", "")
	systemtest.Put(t, m, "/usr/sbin/update-rc.d", "")
	s := &said{answers: map[string]string{"/etc/init.d/nginx status": "", "update-rc.d": "", "/etc/init.d/cron start": ""}}
	m.Run = s.run
	ctx := context.Background()
	manager, err := Services(ctx, m)
	if err != nil || manager.Name() != "init scripts" || ServiceManagerName(m) != "init scripts" {
		t.Fatalf("%v, %v", manager, err)
	}
	states, err := manager.States(ctx, []string{"cron", "nginx", "tide"})
	if want := "cron true inactive enabled, nginx true active disabled, tide false  "; err != nil || brief(states, "cron", "nginx", "tide") != want {
		t.Errorf("%v, %v, want %s", states, err, want)
	}
	if names, err := manager.Names(ctx); err != nil || fmt.Sprint(names) != "[cron nginx]" {
		t.Errorf("%v, %v", names, err)
	}
	s.ran = nil
	for _, do := range []func() error{
		func() error { return manager.Do(ctx, "start", "cron") },
		func() error { return manager.Boot(ctx, "nginx", true) },
		func() error { return manager.Boot(ctx, "cron", false) },
	} {
		if err := do(); err != nil {
			t.Error(err)
		}
	}
	if got, want := strings.Join(s.ran, "; "), "/etc/init.d/cron start; update-rc.d nginx defaults; update-rc.d nginx enable; update-rc.d cron defaults; update-rc.d cron disable"; got != want {
		t.Errorf("it ran %s", got)
	}
	if err := manager.Mask(ctx, "cron", true); err == nil {
		t.Error("a script was masked")
	}
	if err := manager.Do(ctx, "stop", "cron"); err == nil || !strings.Contains(err.Error(), "stop cron") {
		t.Errorf("a script that fails: %v", err)
	}
}

func brief(states map[string]UnitState, names ...string) string {
	var out []string
	for _, n := range names {
		out = append(out, fmt.Sprintf("%s %t %s %s", n, states[n].Known, states[n].Active, states[n].Boot))
	}
	return strings.Join(out, ", ")
}

func TestDropInsThatCount(t *testing.T) {
	m := machine(t, "ID=debian\n")
	all := []string{"/etc/systemd/system/tide@high.service.d/a.conf", "/etc/systemd/system/tide@.service.d/b.conf", "/run/systemd/system/service.d/c.conf", "/usr/local/lib/systemd/system/tide@.service"}
	for _, p := range append(all, "/etc/systemd/system/other.service.d/x.conf", "/lib/systemd/system/tide@.service") {
		systemtest.Put(t, m, p, p)
	}
	if err := os.Chmod(m.Path(wire.Path(all[0])), 0o600); err != nil {
		t.Fatal(err)
	}
	linked := "/etc/systemd/system/tide@high.service"
	systemtest.Put(t, m, "/srv/tide@high.service", "x")
	for link, target := range map[string]string{linked: m.Path("/srv/tide@high.service"), "/etc/systemd/system/alias.service": "/lib/systemd/system/tide@high.service"} {
		if err := os.Symlink(target, m.Path(wire.Path(link))); err != nil {
			t.Fatal(err)
		}
	}
	got, err := DropIns(m, "tide@high")
	if err != nil || len(got) != len(all)+1 || !strings.HasSuffix(got[all[0]], " 0600") || !strings.HasSuffix(got[linked], "/srv/tide@high.service") {
		t.Errorf("%v, %v", got, err)
	}
	if names := dropInNames("a-b-c"); fmt.Sprint(names) != "[a-b-c.service a-b-.service a-.service service]" {
		t.Error(names)
	}
	if got, err := DropIns(m, "alias"); err != nil || len(got) != 1 {
		t.Errorf("of an alias: %v, %v", got, err)
	}
}
