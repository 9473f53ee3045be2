package e2e

import (
	"fmt"
	"slices"
	"strings"
)

// shell-safe quoting of a path.
func sh(p string) string { return "'" + strings.ReplaceAll(p, "'", `'\''`) + "'" }

// handEdit chooses something that is declared on a host and a way to spoil it by hand, of
// which there are about a hundred.
func (w *walk) handEdit(host string) edit {
	m, first := w.model, host == w.g.hosts[0]
	service, conf, cron := "httpd", "/etc/httpd/conf.d/northstake-tides.conf", "crond"
	site := "tides"
	if first {
		site = []string{"ex", "ex-org"}[w.random.IntN(2)]
		service, conf, cron = "nginx", "/etc/nginx/sites-available/northstake-"+site+".conf", "cron"
	}
	of := func(ways ...string) string { return ways[w.random.IntN(len(ways))] }
	spoilFile := func(p string) string {
		q := sh(p)
		return of("printf x >> "+q, "printf '<script>steal()</script>\\n\\n' >> "+q, "truncate -s +1 "+q, "rm "+q, "chown keeper "+q, "chgrp keeper "+q, "chmod 0666 "+q, "chmod 4755 "+q,
			"mv "+q+" /tmp/moved; ln -s /tmp/moved "+q, "chmod 0 "+q,
			"cp -p "+q+" /tmp/copy; printf y | dd of="+q+" bs=1 conv=notrunc status=none; touch -r /tmp/copy "+q+"; cmp -s /tmp/copy "+q+" && printf z >> "+q+"; true")
	}
	switch w.random.IntN(15) {
	case 0, 1, 2, 3:
		var roots []string
		for r := range m.trees {
			if slices.Contains(m.on(w.g, r), host) {
				roots = append(roots, r)
			}
		}
		slices.Sort(roots)
		r := roots[w.random.IntN(len(roots))]
		if w.random.IntN(8) == 0 {
			return edit{"content" + r, "", of("chmod 0700 "+sh(r)+"; chmod 0755 "+sh(r)+"; chmod 0775 ", "chown keeper ", "chgrp keeper ") + sh(r)}
		}
		p := pick(w, m.trees[r])
		if dir, _, ok := strings.Cut(p, "/"); ok && w.random.IntN(3) == 0 { // a directory that the tree implies
			q := sh(r + "/" + dir)
			return edit{"content" + r, "", of("chmod 0700 ", "chown keeper ", "chgrp keeper ", "chmod 3777 ") + q}
		}
		if w.random.IntN(6) == 0 {
			q := sh(r + "/" + p)
			return edit{"content" + r, "", "rm " + q + of("; mkdir ", "; mkfifo ", "; ln -s index.html ") + q}
		}
		return edit{"content" + r, "", spoilFile(r + "/" + p)}
	case 4:
		p := pick(w, m.files)
		return edit{"file" + p, "", spoilFile(p)}
	case 5:
		p := "/etc/harbour.list"
		return edit{"file" + p, "", of("sed -i 's/^pier .*/pier hacked/' ", "sed -i '/^pier /d' ", "rm ", "truncate -s 0 ") + p}
	case 6:
		p := pick(w, m.dirs)
		return edit{"directory" + p, "", of("chmod 0711 ", "chown keeper ", "chgrp keeper ", "rmdir ") + p}
	case 7:
		p := pick(w, m.links)
		return edit{"link" + p, "", of("ln -sfn /tmp ", "rm ") + p}
	case 8:
		name := pick(w, m.accounts)
		return edit{"account/" + name, "", of("usermod -s /bin/false ", "usermod -d /tmp ", "echo "+name+":harbour | chpasswd; : ", "usermod -g daemon ") + name}
	case 9:
		return edit{"site/" + site, "", of("printf '# x\\n' >> ", "chown keeper ", "chmod 0600 ", "sed -i s/index.html/else.html/ ") + conf}
	case 10:
		switch w.random.IntN(3) {
		case 0:
			return edit{"service/" + cron, "", of("systemctl stop ", "systemctl disable -q ", "systemctl mask -q --runtime ") + cron}
		case 1:
			dir := of("/etc/systemd/system/"+cron+".service.d", "/run/systemd/system/"+cron+".service.d", "/usr/local/lib/systemd/system/"+cron+".service.d")
			return edit{"service/" + cron, "", fmt.Sprintf("mkdir -p %[1]s; printf '[Service]\\nNice=5\\n' > %[1]s/x.conf; systemctl daemon-reload", dir)}
		default:
			return edit{"service/" + service, "", "systemctl disable -q " + service}
		}
	}
	if n := w.random.IntN(6); n == 0 {
		return edit{"account/tides", "", "userdel tides"}
	} else if n == 1 && first {
		return edit{"package/cron service/cron", "", "apt-get remove -y -q cron >/dev/null 2>&1"}
	} else if n == 1 {
		return edit{"package/cronie service/crond", "", "dnf -y -q remove cronie >/dev/null 2>&1"}
	} else if n == 2 && !first {
		return edit{"port/8000-8002-tcp", "", of("firewall-cmd -q --remove-port=8000-8002/tcp", "firewall-cmd -q --permanent --remove-port=8000-8002/tcp")}
	} else if n == 2 {
		return edit{"port/8000-8002-tcp firewall/inbound", "", "nft delete rule inet northstake input handle $(nft -a list table inet northstake | grep 'dport 8000-8002' | grep -o '[0-9]*$')"}
	} else if n == 3 {
		return edit{"site/" + site, "", "rm " + conf + map[bool]string{true: "; cp /etc/hostname " + conf}[w.random.IntN(2) == 0]}
	}
	if !first { // firewalld filters there, and what somebody opens in it is theirs to close
		return edit{"service/" + service, "", "systemctl stop " + service}
	}
	return edit{"firewall/inbound", "", of("nft add rule inet northstake input tcp dport 6000 accept", "printf '# x\\n' >> /etc/northstake/firewall.nft", "systemctl disable -q northstake-firewall")}
}
