package family

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"

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
		if err := os.Chmod(m.Path("/etc/init.d/"+name), 0o755); err != nil {
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
	if want := "map[cron:{true inactive enabled} nginx:{true active disabled} tide:{false  }]"; err != nil || fmt.Sprint(states) != want {
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
