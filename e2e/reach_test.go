package e2e

import (
	"context"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"
)

func dialable(address string) bool {
	c, err := net.DialTimeout("tcp", address, 2*time.Second)
	if err != nil {
		return false
	}
	c.Close()
	return true
}

const bareKit = "[kit.base]\npackages = []\n"

// A changed host key stops everything for that host, and the message says which
// case it is.
func TestHostKeys(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 2, bareKit)
	g.trust()
	a, b := g.hosts[0], g.hosts[1]
	g.ns(1, "survey", g.name)
	// Two machines swap their addresses.
	g.n[a], g.n[b] = g.n[b], g.n[a]
	g.declareText(bareKit)
	g.ns(0, "declare", g.dir)
	out := g.ns(2, "survey", g.name)
	if !strings.Contains(out, "is the one known for host "+b) || !strings.Contains(out, "is the one known for host "+a) || !strings.Contains(out, "swapped") {
		t.Errorf("a swap is not explained:\n%s", out)
	}
	out = g.ns(2, "trust", a, "--ground", g.name, "--yes", "--fingerprint", g.fingerprint(b))
	if !strings.Contains(out, "swapped") {
		t.Errorf("a swapped host can be trusted:\n%s", out)
	}
	g.n[a], g.n[b] = g.n[b], g.n[a]
	g.declareText(bareKit)
	g.ns(0, "declare", g.dir)
	g.ns(1, "survey", g.name)
	// A machine is rebuilt: its keys are new.
	g.on(a, "rm /etc/ssh/ssh_host_*; ssh-keygen -A >/dev/null 2>&1; systemctl restart ssh; pkill -f '[s]shd: keeper' || true")
	deadline := time.Now().Add(time.Minute)
	for !strings.Contains(out, "has changed to") && time.Now().Before(deadline) {
		out, _, _ = g.run("survey", g.name, "--on", a)
	}
	if !strings.Contains(out, "rebuilt") || !strings.Contains(out, "northstake trust "+a) {
		t.Errorf("a rebuilt host is not explained:\n%s", out)
	}
	g.ns(0, "trust", a, "--ground", g.name, "--yes", "--fingerprint", g.fingerprint(a))
	g.ns(1, "survey", g.name, "--on", a)
}

// Each way of not getting to a host has a message of its own.
func TestTroubleIsToldApart(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, bareKit)
	g.trust()
	h := g.hosts[0]
	ask := func(want string) {
		t.Helper()
		if out := g.ns(2, "survey", g.name); !strings.Contains(out, want) {
			t.Errorf("nothing says %q:\n%s", want, out)
		}
	}
	drop := func() { g.on(h, "pkill -f '[s]shd: keeper' || true") }
	g.on(h, "rm /etc/sudoers.d/keeper")
	drop()
	ask("password")
	g.on(h, "echo 'keeper ALL=(ALL) NOPASSWD: ALL' > /etc/sudoers.d/keeper; mv /usr/bin/sudo /usr/bin/sudo.off")
	drop()
	ask("no sudo on host")
	g.on(h, "mv /usr/bin/sudo.off /usr/bin/sudo; mv /home/keeper/.ssh/authorized_keys /home/keeper/.ssh/off")
	drop()
	ask("does not let user keeper in")
	g.on(h, "mv /home/keeper/.ssh/off /home/keeper/.ssh/authorized_keys; systemctl stop ssh; pkill sshd || true")
	ask("refuses connections")
	g.on(h, "systemctl start ssh")
	if err := labs.Kill(context.Background(), h); err != nil {
		t.Fatal(err)
	}
	out := g.ns(2, "survey", g.name)
	if !strings.Contains(out, "no route") && !strings.Contains(out, "has not answered") {
		t.Errorf("a host that is off is not explained:\n%s", out)
	}
	if err := labs.Start(context.Background(), h); err != nil {
		t.Fatal(err)
	}
	if err := labs.WaitSSH(context.Background(), g.n[h]); err != nil {
		t.Fatal(err)
	}
	g.ns(1, "survey", g.name)
}

// A user with a password, for login and for sudo: kept as a secret, or asked
// for each time and never stored.
func TestPasswords(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 1, bareKit)
	g.trust()
	h := g.hosts[0]
	g.on(h, "useradd -m -s /bin/bash warden && echo 'warden:low-tide-7' | chpasswd && echo 'warden ALL=(ALL) ALL' > /etc/sudoers.d/warden")
	secret := t.TempDir() + "/p"
	write(t, secret, "low-tide-7\n")
	name := "warden-" + g.name
	name = strings.Trim(name[:min(40, len(name))], "-")
	g.ns(0, "secret", "keep", name, "--file", secret)
	reach := fmt.Sprintf("[host.%s.reach]\nuser = \"warden\"\npassword_secret = %q\nsudo_%%s\n", h, name)
	g.declareText(bareKit + fmt.Sprintf(reach, fmt.Sprintf("secret = %q", name)))
	g.ns(0, "declare", g.dir)
	g.ns(1, "survey", g.name)
	g.declareText(bareKit + fmt.Sprintf(reach, "asks = true"))
	g.ns(0, "declare", g.dir)
	if out := g.ns(2, "survey", g.name); !strings.Contains(out, "terminal to ask") {
		t.Errorf("without a terminal the password is not asked for:\n%s", out)
	}
	status, body := g.post("/grounds/"+g.name+"/surveys", `{"sudo_passwords":{"*":"low-tide-7"}}`)
	if status != 202 {
		t.Fatalf("%d %s", status, body)
	}
	var s struct{ ID int64 }
	decode(t, body, &s)
	g.waitFor(func() bool {
		_, body := g.get(fmt.Sprintf("/grounds/%s/surveys/%d", g.name, s.ID))
		return strings.Contains(body, `"state":"done"`)
	})
	if _, body := g.get(fmt.Sprintf("/grounds/%s/surveys/%d", g.name, s.ID)); strings.Contains(body, `"unread":"`) || !strings.Contains(body, `"due":`) {
		t.Errorf("the survey with a given password: %s", body)
	}
	if out := g.ns(2, "journal", h, "--ground", g.name); !strings.Contains(out, "terminal to ask") {
		t.Errorf("without a terminal the journal says\n%s", out)
	}
	if status, body := g.post("/grounds/"+g.name+"/hosts/"+h+"/journal", `{"sudo_passwords":{"*":"low-tide-7"}}`); status != 200 || strings.TrimSpace(body) != "[]" {
		t.Errorf("the journal with a given password: %d %s", status, body)
	}
	if dump := g.s.dump(t); strings.Contains(dump, "low-tide-7") {
		t.Error("the password is in the database in the clear")
	}
}

// Many hosts are trusted in one command by what is known of them, none of them
// blindly; a host with a certificate needs no trust of its own; and after a swap of
// addresses the keys say which host is where.
func TestTrustAtScale(t *testing.T) {
	t.Parallel()
	g := newGround(t, shared, 4, bareKit)
	g.ns(0, "declare", g.dir)
	a, b, c, d := g.hosts[0], g.hosts[1], g.hosts[2], g.hosts[3]
	public := func(h string) string {
		return strings.TrimSpace(g.on(h, "cut -d' ' -f1,2 /etc/ssh/ssh_host_ed25519_key.pub"))
	}
	dir := t.TempDir()
	known := dir + "/known_hosts"
	write(t, known, fmt.Sprintf("%s %s\n%s %s\n", g.address(a), public(a), g.address(b), public(c)))
	out := g.ns(2, "trust", "h*", "--ground", g.name, "--known-hosts", known)
	for _, want := range []string{a + "\t" + g.address(a) + "\ttrusted", b + "\t" + g.address(b) + "\tleft\t" + known + ":2 has another key", c + "\t" + g.address(c) + "\tleft\tno key of it", "1 host is trusted, 3 left"} {
		if !strings.Contains(out, want) {
			t.Errorf("nothing says %q:\n%s", want, out)
		}
	}
	list := dir + "/list"
	write(t, list, fmt.Sprintf("# from the owner\n%s %s\n%s SHA256:%s\n", b, g.fingerprint(b), g.address(c), strings.Repeat("A", 43)))
	out = g.ns(2, "trust", "--ground", g.name, "--fingerprints", list)
	if !strings.Contains(out, b+"\t"+g.address(b)+"\ttrusted") || !strings.Contains(out, c+"\t"+g.address(c)+"\tleft\tit offers SHA256:") || !strings.Contains(out, a+"\t"+g.address(a)+"\ttrusted\twas trusted already") {
		t.Errorf("by a list:\n%s", out)
	}
	write(t, list, "no fingerprint\n")
	if out := g.ns(2, "trust", a, "--ground", g.name, "--fingerprints", list); !strings.Contains(out, list+":1:") {
		t.Errorf("a list that is none:\n%s", out)
	}
	if out := g.ns(2, "survey", g.name, "--on", c); !strings.Contains(out, "is not known") {
		t.Errorf("a host that was left is looked at:\n%s", out)
	}

	// The authority signs the keys of two hosts: one for its own name, one for another's.
	shell(t, dir, "ssh-keygen -q -t ed25519 -N '' -f ca")
	for _, h := range []string{c, d} {
		write(t, dir+"/"+h+".pub", public(h)+"\n")
		principal := map[string]string{c: c, d: "elsewhere"}[h]
		shell(t, dir, fmt.Sprintf("ssh-keygen -q -s ca -I %s -h -n %s %s.pub", h, principal, h))
		g.on(h, fmt.Sprintf("echo '%s' > /etc/ssh/host-cert.pub; echo 'HostCertificate /etc/ssh/host-cert.pub' > /etc/ssh/sshd_config.d/cert.conf; systemctl restart ssh", strings.TrimSpace(shell(t, dir, "cat "+h+"-cert.pub"))))
	}
	g.beside("files/authority.pub", shell(t, dir, "cat ca.pub"))
	authority := bareKit + fmt.Sprintf("[host.%s.reach]\nhost_key_authorities = [\"files/authority.pub\"]\n[host.%s.reach]\nhost_key_authorities = [\"files/authority.pub\"]\n", c, d)
	g.declareText(authority)
	g.ns(0, "declare", g.dir)
	g.ns(1, "survey", g.name, "--on", c)
	if out := g.ns(2, "survey", g.name, "--on", d); !strings.Contains(out, "certificate that is not accepted") || !strings.Contains(out, "elsewhere") {
		t.Errorf("a certificate for another host:\n%s", out)
	}
	g.ns(0, "trust", d, "--ground", g.name, "--yes", "--fingerprint", g.fingerprint(d))
	g.ns(1, "survey", g.name, "--on", d)

	// Two machines swap their addresses; one command corrects the declaration.
	if out := g.ns(0, "addresses", g.dir, "--yes"); !strings.Contains(out, "at its own address") {
		t.Errorf("nothing has moved:\n%s", out)
	}
	g.n[a], g.n[b] = g.n[b], g.n[a]
	g.declareText(authority)
	g.ns(0, "declare", g.dir)
	g.ns(2, "survey", g.name, "--on", a)
	g.n[a], g.n[b] = g.n[b], g.n[a]
	out = g.ns(0, "addresses", g.dir, "--yes")
	if !strings.Contains(out, a+"\t"+g.address(b)+"\t"+g.address(a)) || !strings.Contains(out, "corrected") {
		t.Errorf("the swap is not found:\n%s", out)
	}
	g.ns(1, "survey", g.name, "--on", a+","+b)
	if out := g.ns(0, "hosts", g.name, "--on", a); !strings.Contains(out, g.address(a)) {
		t.Errorf("the address was not corrected:\n%s", out)
	}
}
