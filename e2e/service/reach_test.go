package service

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"northstake/e2e/stage"
)

// A changed host key stops everything for that host, and the message says which
// case it is.
func TestHostKeys(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 2, stage.BareKit)
	g.Trust()
	a, b := g.Hosts[0], g.Hosts[1]
	g.Ns(1, "survey", g.Name)
	// Two machines swap their addresses.
	g.Number[a], g.Number[b] = g.Number[b], g.Number[a]
	g.DeclareText(stage.BareKit)
	g.Ns(0, "declare", g.Dir)
	out := g.Ns(2, "survey", g.Name)
	if !strings.Contains(out, "is the one known for host "+b) || !strings.Contains(out, "is the one known for host "+a) || !strings.Contains(out, "swapped") {
		t.Errorf("a swap is not explained:\n%s", out)
	}
	out = g.Ns(2, "trust", a, "--ground", g.Name, "--yes", "--fingerprint", g.Fingerprint(b))
	if !strings.Contains(out, "swapped") {
		t.Errorf("a swapped host can be trusted:\n%s", out)
	}
	g.Number[a], g.Number[b] = g.Number[b], g.Number[a]
	g.DeclareText(stage.BareKit)
	g.Ns(0, "declare", g.Dir)
	g.Ns(1, "survey", g.Name)
	// A machine is rebuilt: its keys are new.
	g.On(a, "rm /etc/ssh/ssh_host_*; ssh-keygen -A >/dev/null 2>&1; systemctl restart ssh; pkill -f '[s]shd: keeper' || true")
	deadline := time.Now().Add(time.Minute)
	for !strings.Contains(out, "has changed to") && time.Now().Before(deadline) {
		out, _, _ = g.Run("survey", g.Name, "--on", a)
	}
	if !strings.Contains(out, "rebuilt") || !strings.Contains(out, "northstake trust "+a) {
		t.Errorf("a rebuilt host is not explained:\n%s", out)
	}
	g.Ns(0, "trust", a, "--ground", g.Name, "--yes", "--fingerprint", g.Fingerprint(a))
	g.Ns(1, "survey", g.Name, "--on", a)
}

// Each way of not getting to a host has a message of its own.
func TestTroubleIsToldApart(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	g.Trust()
	h := g.Hosts[0]
	ask := func(want string) {
		t.Helper()
		if out := g.Ns(2, "survey", g.Name); !strings.Contains(out, want) {
			t.Errorf("nothing says %q:\n%s", want, out)
		}
	}
	drop := func() { g.On(h, "pkill -f '[s]shd: keeper' || true") }
	g.On(h, "rm /etc/sudoers.d/keeper")
	drop()
	ask("password")
	g.On(h, "echo 'keeper ALL=(ALL) NOPASSWD: ALL' > /etc/sudoers.d/keeper; mv /usr/bin/sudo /usr/bin/sudo.off")
	drop()
	ask("no sudo on host")
	g.On(h, "mv /usr/bin/sudo.off /usr/bin/sudo; mv /home/keeper/.ssh/authorized_keys /home/keeper/.ssh/off")
	drop()
	ask("does not let user keeper in")
	g.On(h, "mv /home/keeper/.ssh/off /home/keeper/.ssh/authorized_keys; systemctl stop ssh; pkill sshd || true")
	ask("refuses connections")
	g.On(h, "systemctl start ssh")
	if err := stage.Lab().Kill(context.Background(), h); err != nil {
		t.Fatal(err)
	}
	out := g.Ns(2, "survey", g.Name)
	if !strings.Contains(out, "no route") && !strings.Contains(out, "has not answered") {
		t.Errorf("a host that is off is not explained:\n%s", out)
	}
	if err := stage.Lab().Start(context.Background(), h); err != nil {
		t.Fatal(err)
	}
	if err := stage.Lab().WaitSSH(context.Background(), g.Number[h]); err != nil {
		t.Fatal(err)
	}
	g.Ns(1, "survey", g.Name)
}

// A user with a password, for login and for sudo: kept as a secret, or asked
// for each time and never stored.
func TestPasswords(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	g.Trust()
	h := g.Hosts[0]
	g.On(h, "useradd -m -s /bin/bash warden && echo 'warden:low-tide-7' | chpasswd && echo 'warden ALL=(ALL) ALL' > /etc/sudoers.d/warden")
	secret := t.TempDir() + "/p"
	stage.Write(t, secret, "low-tide-7\n")
	name := "warden-" + g.Name
	name = strings.Trim(name[:min(40, len(name))], "-")
	g.Ns(0, "secret", "keep", name, "--file", secret)
	reach := fmt.Sprintf("[host.%s.reach]\nuser = \"warden\"\npassword_secret = %q\nsudo_%%s\n", h, name)
	g.DeclareText(stage.BareKit + fmt.Sprintf(reach, fmt.Sprintf("secret = %q", name)))
	g.Ns(0, "declare", g.Dir)
	g.Ns(1, "survey", g.Name)
	g.DeclareText(stage.BareKit + fmt.Sprintf(reach, "asks = true"))
	g.Ns(0, "declare", g.Dir)
	if out := g.Ns(2, "survey", g.Name); !strings.Contains(out, "terminal to ask") {
		t.Errorf("without a terminal the password is not asked for:\n%s", out)
	}
	status, body := g.Post("/grounds/"+g.Name+"/surveys", `{"sudo_passwords":{"*":"low-tide-7"}}`)
	if status != 202 {
		t.Fatalf("%d %s", status, body)
	}
	var s struct{ ID int64 }
	stage.Decode(t, body, &s)
	g.WaitFor(func() bool {
		_, body := g.Get(fmt.Sprintf("/grounds/%s/surveys/%d", g.Name, s.ID))
		return strings.Contains(body, `"state":"done"`)
	})
	if _, body := g.Get(fmt.Sprintf("/grounds/%s/surveys/%d", g.Name, s.ID)); strings.Contains(body, `"unread":"`) || !strings.Contains(body, `"due":`) {
		t.Errorf("the survey with a given password: %s", body)
	}
	if out := g.Ns(2, "journal", h, "--ground", g.Name); !strings.Contains(out, "terminal to ask") {
		t.Errorf("without a terminal the journal says\n%s", out)
	}
	if status, body := g.Post("/grounds/"+g.Name+"/hosts/"+h+"/journal", `{"sudo_passwords":{"*":"low-tide-7"}}`); status != 200 || strings.TrimSpace(body) != "[]" {
		t.Errorf("the journal with a given password: %d %s", status, body)
	}
	if dump := g.Service.Dump(t); strings.Contains(dump, "low-tide-7") {
		t.Error("the password is in the database in the clear")
	}
}

// Many hosts are trusted in one command by what is known of them, none of them
// blindly; a host with a certificate needs no trust of its own; and after a swap of
// addresses the keys say which host is where.
func TestTrustAtScale(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 4, stage.BareKit)
	g.Ns(0, "declare", g.Dir)
	a, b, c, d := g.Hosts[0], g.Hosts[1], g.Hosts[2], g.Hosts[3]
	public := func(h string) string {
		return strings.TrimSpace(g.On(h, "cut -d' ' -f1,2 /etc/ssh/ssh_host_ed25519_key.pub"))
	}
	dir := t.TempDir()
	known := dir + "/known_hosts"
	stage.Write(t, known, fmt.Sprintf("%s %s\n%s %s\n", g.Address(a), public(a), g.Address(b), public(c)))
	out := g.Ns(2, "trust", "h*", "--ground", g.Name, "--known-hosts", known)
	for _, want := range []string{a + "\t" + g.Address(a) + "\ttrusted", b + "\t" + g.Address(b) + "\tleft\t" + known + ":2 has another key", c + "\t" + g.Address(c) + "\tleft\tno key of it", "1 host is trusted, 3 left"} {
		if !strings.Contains(out, want) {
			t.Errorf("nothing says %q:\n%s", want, out)
		}
	}
	list := dir + "/list"
	stage.Write(t, list, fmt.Sprintf("# from the owner\n%s %s\n%s SHA256:%s\n", b, g.Fingerprint(b), g.Address(c), strings.Repeat("A", 43)))
	out = g.Ns(2, "trust", "--ground", g.Name, "--fingerprints", list)
	if !strings.Contains(out, b+"\t"+g.Address(b)+"\ttrusted") || !strings.Contains(out, c+"\t"+g.Address(c)+"\tleft\tit offers SHA256:") || !strings.Contains(out, a+"\t"+g.Address(a)+"\ttrusted\twas trusted already") {
		t.Errorf("by a list:\n%s", out)
	}
	stage.Write(t, list, "no fingerprint\n")
	if out := g.Ns(2, "trust", a, "--ground", g.Name, "--fingerprints", list); !strings.Contains(out, list+":1:") {
		t.Errorf("a list that is none:\n%s", out)
	}
	if out := g.Ns(2, "survey", g.Name, "--on", c); !strings.Contains(out, "is not known") {
		t.Errorf("a host that was left is looked at:\n%s", out)
	}

	// The authority signs the keys of two hosts: one for its own name, one for another's.
	stage.Shell(t, dir, "ssh-keygen -q -t ed25519 -N '' -f ca")
	for _, h := range []string{c, d} {
		stage.Write(t, dir+"/"+h+".pub", public(h)+"\n")
		principal := map[string]string{c: c, d: "elsewhere"}[h]
		stage.Shell(t, dir, fmt.Sprintf("ssh-keygen -q -s ca -I %s -h -n %s %s.pub", h, principal, h))
		g.On(h, fmt.Sprintf("echo '%s' > /etc/ssh/host-cert.pub; echo 'HostCertificate /etc/ssh/host-cert.pub' > /etc/ssh/sshd_config.d/cert.conf; systemctl restart ssh", strings.TrimSpace(stage.Shell(t, dir, "cat "+h+"-cert.pub"))))
	}
	g.Beside("files/authority.pub", stage.Shell(t, dir, "cat ca.pub"))
	authority := stage.BareKit + fmt.Sprintf("[host.%s.reach]\nhost_key_authorities = [\"files/authority.pub\"]\n[host.%s.reach]\nhost_key_authorities = [\"files/authority.pub\"]\n", c, d)
	g.DeclareText(authority)
	g.Ns(0, "declare", g.Dir)
	g.Ns(1, "survey", g.Name, "--on", c)
	if out := g.Ns(2, "survey", g.Name, "--on", d); !strings.Contains(out, "certificate that is not accepted") || !strings.Contains(out, "elsewhere") {
		t.Errorf("a certificate for another host:\n%s", out)
	}
	g.Ns(0, "trust", d, "--ground", g.Name, "--yes", "--fingerprint", g.Fingerprint(d))
	g.Ns(1, "survey", g.Name, "--on", d)

	// Two machines swap their addresses; one command corrects the declaration.
	if out := g.Ns(0, "addresses", g.Dir, "--yes"); !strings.Contains(out, "at its own address") {
		t.Errorf("nothing has moved:\n%s", out)
	}
	g.Number[a], g.Number[b] = g.Number[b], g.Number[a]
	g.DeclareText(authority)
	g.Ns(0, "declare", g.Dir)
	g.Ns(2, "survey", g.Name, "--on", a)
	g.Number[a], g.Number[b] = g.Number[b], g.Number[a]
	out = g.Ns(0, "addresses", g.Dir, "--yes")
	if !strings.Contains(out, a+"\t"+g.Address(b)+"\t"+g.Address(a)) || !strings.Contains(out, "corrected") {
		t.Errorf("the swap is not found:\n%s", out)
	}
	g.Ns(1, "survey", g.Name, "--on", a+","+b)
	if out := g.Ns(0, "hosts", g.Name, "--on", a); !strings.Contains(out, g.Address(a)) {
		t.Errorf("the address was not corrected:\n%s", out)
	}
}
