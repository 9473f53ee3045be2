package walk

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
)

// shell-safe quoting of a path.
func sh(p string) string { return "'" + strings.ReplaceAll(p, "'", `'\''`) + "'" }

// handEdit is a change by hand: the stakes of which it makes drift, separated by blanks, and
// what undoes it where North Stake can only find it, or does not look at it.
type handEdit struct{ stakes, script, undo string }

// handEdit chooses something that is declared on a host and a way to spoil it by hand, of
// which there are about a hundred.
func (w *walk) handEdit(host string) handEdit {
	m, first := w.model, host == w.g.Hosts[0]
	service, conf, cron := "httpd", "/etc/httpd/conf.d/northstake-"+m.tides()+".conf", "crond"
	site := m.tides()
	if first {
		if site = "ex"; m.trees["/srv/www/ex.org"] != nil && w.random.IntN(2) == 0 {
			site = "ex-org"
		}
		service, conf, cron = "nginx", "/etc/nginx/sites-available/northstake-"+site+".conf", "cron"
		if m.other {
			service, conf = "apache2", "/etc/apache2/sites-available/northstake-"+site+".conf"
		}
	}
	of := func(ways ...string) string { return ways[w.random.IntN(len(ways))] }
	spoilFile := func(p string) string {
		q := sh(p)
		return of("printf x >> "+q, "printf '<script>steal()</script>\\n\\n' >> "+q, "truncate -s +1 "+q, "rm "+q, "chown keeper "+q, "chgrp keeper "+q, "chmod 0666 "+q, "chmod 4755 "+q,
			"mv "+q+" /tmp/moved; ln -s /tmp/moved "+q, "chmod 0 "+q,
			"cp -p "+q+" /tmp/copy; printf y | dd of="+q+" bs=1 conv=notrunc status=none; touch -r /tmp/copy "+q+"; cmp -s /tmp/copy "+q+" && printf z >> "+q+"; true")
	}
	if w.random.IntN(5) == 0 {
		return w.oddEdit(host, of, spoilFile, cron, service, site)
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
			return handEdit{"content" + r, of("chmod 0700 "+sh(r)+"; chmod 0755 "+sh(r)+"; chmod 0775 ", "chown keeper ", "chgrp keeper ") + sh(r), ""}
		}
		p := pick(w, m.trees[r])
		if dir, _, ok := strings.Cut(p, "/"); ok && w.random.IntN(3) == 0 { // a directory that the tree implies
			q := sh(r + "/" + dir)
			return handEdit{"content" + r, of("chmod 0700 ", "chown keeper ", "chgrp keeper ", "chmod 3777 ") + q, ""}
		}
		if w.random.IntN(6) == 0 {
			q := sh(r + "/" + p)
			return handEdit{"content" + r, "rm " + q + of("; mkdir ", "; mkfifo ", "; ln -s index.html ") + q, ""}
		}
		if w.random.IntN(10) == 0 {
			return handEdit{"content" + r, "truncate -s 1T " + sh(r+"/"+p), ""}
		}
		return handEdit{"content" + r, spoilFile(r + "/" + p), ""}
	case 4:
		p := pick(w, m.files)
		return handEdit{"file" + p, spoilFile(p), ""}
	case 5:
		p := "/etc/harbour.list"
		if m.portions[p] == "" {
			break
		}
		return handEdit{"file" + p, of("sed -i 's/^pier .*/pier hacked/' ", "sed -i '/^pier /d' ", "rm ", "truncate -s 0 ") + p, ""}
	case 6:
		p := pick(w, m.dirs)
		return handEdit{"directory" + p, of("chmod 0711 ", "chown keeper ", "chgrp keeper ", "rmdir ") + p, ""}
	case 7:
		p := pick(w, m.links)
		return handEdit{"link" + p, of("ln -sfn /tmp ", "rm ") + p, ""}
	case 8:
		name := pick(w, m.accounts)
		return handEdit{"account/" + name, of("usermod -s /bin/false ", "usermod -d /tmp ", "echo "+name+":harbour | chpasswd; : ", "usermod -g daemon ") + name, ""}
	case 9:
		return handEdit{"site/" + site, of("printf '# x\\n' >> ", "chown keeper ", "chmod 0600 ", "sed -i s/index.html/else.html/ ") + conf, ""}
	case 10:
		switch w.random.IntN(3) {
		case 0:
			return handEdit{"service/" + cron, of("systemctl stop ", "systemctl disable -q ", "systemctl mask -q --runtime ") + cron, ""}
		case 1:
			dir := of("/etc/systemd/system/"+cron+".service.d", "/run/systemd/system/"+cron+".service.d", "/usr/local/lib/systemd/system/"+cron+".service.d")
			return handEdit{"service/" + cron, fmt.Sprintf("mkdir -p %[1]s; printf '[Service]\\nNice=5\\n' > %[1]s/x.conf; systemctl daemon-reload", dir), ""}
		default:
			return handEdit{"service/" + service, "systemctl disable -q " + service, ""}
		}
	}
	if n := w.random.IntN(6); n == 0 && m.accounts["tides2"] != "" {
		return handEdit{"account/tides2", "userdel tides2", ""}
	} else if n == 1 && first {
		return handEdit{"package/cron service/cron", "apt-get remove -y -q cron >/dev/null 2>&1", ""}
	} else if n == 1 {
		return handEdit{"package/cronie service/crond", "dnf -y -q remove cronie >/dev/null 2>&1", ""}
	} else if n == 2 && !first {
		return handEdit{"port/8000-8002-tcp", of("firewall-cmd -q --remove-port=8000-8002/tcp", "firewall-cmd -q --permanent --remove-port=8000-8002/tcp"), ""}
	} else if n == 2 {
		return handEdit{"port/8000-8002-tcp firewall/inbound", "nft delete rule inet northstake input handle $(nft -a list table inet northstake | grep 'dport 8000-8002' | grep -o '[0-9]*$')", ""}
	} else if n == 3 {
		return handEdit{"site/" + site, "rm " + conf + map[bool]string{true: "; cp /etc/hostname " + conf}[w.random.IntN(2) == 0], ""}
	}
	if !first { // firewalld filters there, and what somebody opens in it is theirs to close
		return handEdit{"service/" + service, "systemctl stop " + service, ""}
	}
	return handEdit{"firewall/inbound", of("nft add rule inet northstake input tcp dport 6000 accept", "printf '# x\\n' >> /etc/northstake/firewall.nft", "systemctl disable -q northstake-firewall"), ""}
}

// oddEdit is handEdit for what happens less often, or cannot be put back by North Stake.
func (w *walk) oddEdit(host string, of func(...string) string, spoilFile func(string) string, cron, service, site string) handEdit {
	m, first := w.model, host == w.g.Hosts[0]
	file := pick(w, m.files)
	q := sh(file)
	list, key, source := "/etc/yum.repos.d/northstake-ferries-redhat.repo", "/etc/pki/rpm-gpg/northstake-ferries-redhat", "source/ferries-redhat"
	if first {
		list, key, source = "/etc/apt/sources.list.d/northstake-ferries-debian.sources", "/etc/apt/keyrings/northstake-ferries-debian.asc", "source/ferries-debian"
	}
	other := fmt.Sprintf("1.%d-1", w.random.IntN(3))
	switch w.random.IntN(17) {
	case 16:
		kept := sh("/tmp/" + path.Base(file))
		return handEdit{"file" + file, "cp -p " + q + " " + kept + "; truncate -s 1T " + q, "cp -p " + kept + " " + q}
	case 14, 15:
		var sites []string
		for _, s := range map[bool][]string{true: {"ex", "ex-org"}, false: {m.tides()}}[first] {
			if s == m.tides() || slices.ContainsFunc(slices.Collect(maps.Keys(m.trees)), func(r string) bool { return walkRoots[r] == "site."+s }) {
				sites = append(sites, s)
			}
		}
		return w.visitorsEdit(host, sites, of)
	case 0: // what is not looked at is not named
		return handEdit{"", "touch -d 2001-01-01 " + q, "true"}
	case 1:
		return handEdit{"", "setfacl -m u:daemon:--- " + q, "setfacl -b " + q}
	case 2:
		return handEdit{"", "setfattr -n user.tide -v flood " + q, "setfattr -x user.tide " + q}
	case 3:
		if first && w.random.IntN(3) == 0 {
			return handEdit{source, "find /var/lib/apt/lists -name '*_Packages*' ! -name '_opt*' -delete", ""}
		}
		return handEdit{source, spoilFile(of(list, key)), ""}
	case 4:
		if m.version == "" {
			break
		}
		if first {
			return handEdit{"package/tide-tables", of("apt-get remove -y -q tide-tables >/dev/null 2>&1", "dpkg --purge tide-tables >/dev/null", "rm /usr/bin/tide"), ""}
		}
		return handEdit{"package/tide-tables", of("dnf -y -q remove tide-tables >/dev/null 2>&1", "rpm -e tide-tables", "rm /usr/bin/tide"), ""}
	case 5:
		if m.version == "" || m.version+"-1" == other {
			break
		}
		if first {
			return handEdit{"package/tide-tables", "apt-get install -y -q --allow-downgrades tide-tables=" + other + " >/dev/null 2>&1", ""}
		}
		return handEdit{"package/tide-tables", "dnf -y -q install tide-tables-" + other + " >/dev/null 2>&1 || dnf -y -q downgrade tide-tables-" + other + " >/dev/null 2>&1", ""}
	case 6: // another virtual host takes the name
		if first && !m.other {
			f := of("/etc/nginx/conf.d/aaa.conf", "/etc/nginx/sites-enabled/aaa")
			return handEdit{"site/" + site, "printf 'server { listen 80; server_name " + site + ".saltmarsh.test; }\\n' > " + f, "rm " + f}
		}
		f, name := "/etc/httpd/conf.d/aaa.conf", "tides"
		if first {
			f, name = "/etc/apache2/sites-enabled/aaa.conf", site
		}
		return handEdit{"site/" + site, "printf '<VirtualHost *:80>\\nServerName " + name + ".saltmarsh.test\\n</VirtualHost>\\n' > " + f, "rm " + f}
	case 7: // rules of others
		if first {
			return handEdit{"port/8000-8002-tcp", "nft 'table inet others { chain input { type filter hook input priority 10; tcp dport " + of("8000", "8002", "8001-8009", "{ 1, 8002 }") + of(" drop", " reject", " ip saddr 10.0.0.0/8 drop") + "; }; }'", "nft delete table inet others"}
		}
		rule := "'rule port port=\"8000-8002\" protocol=\"tcp\" " + of("drop", "reject") + "'"
		return handEdit{"port/8000-8002-tcp", "firewall-cmd -q --add-rich-rule=" + rule, "firewall-cmd -q --remove-rich-rule=" + rule}
	case 8:
		if first {
			return handEdit{"firewall/inbound", "nft insert rule inet northstake input " + of("tcp dport 6000-6010 accept", "ip saddr 10.0.0.0/8 accept", "udp dport 53 accept"), ""}
		}
		what := of("port=6000/tcp", "service=nfs", "rich-rule='rule family=\"ipv4\" source address=\"10.0.0.0/8\" accept'")
		return handEdit{"firewall/inbound", "firewall-cmd -q --add-" + what, "firewall-cmd -q --remove-" + what}
	case 9: // what is above the roots shuts the server out
		sites := "site/" + site
		if first {
			sites = ""
			for _, s := range []string{"ex", "ex-org"} {
				if slices.ContainsFunc(slices.Sorted(maps.Keys(m.trees)), func(r string) bool { return walkRoots[r] == "site."+s }) {
					sites += "site/" + s + " "
				}
			}
		}
		return handEdit{sites, "chmod " + of("0700", "0750", "0711; chmod 0700") + " /srv/www", "chmod 0755 /srv/www"}
	case 10:
		return handEdit{"service/" + cron, of("mkdir -p /etc/systemd/system/"+cron+".service.d; ln -s /dev/null /etc/systemd/system/"+cron+".service.d/y.conf", "printf '[Service]\\nExecStart=/bin/true\\n' > /etc/systemd/system/"+cron+".service") + "; systemctl daemon-reload", "rm -r /etc/systemd/system/" + cron + ".service /etc/systemd/system/" + cron + ".service.d 2>/dev/null; systemctl daemon-reload"}
	case 11: // a worker that died is nobody's edit
		return handEdit{"", "pkill -o -KILL -f '[n]ginx: worker' || pkill -n -KILL -x httpd || pkill -n -KILL -x apache2 || true; sleep 1", "true"}
	case 12:
		return handEdit{"", "systemctl " + of("try-reload-or-restart ", "try-restart ") + service, "true"}
	case 13:
		if p := pick(w, m.dirs); !slices.Contains(slices.Collect(maps.Values(m.links)), p) {
			return handEdit{"directory" + p, "rmdir " + p + of("; printf x > ", "; ln -s /tmp ") + p, "rm " + p + "; install -d -m " + m.dirs[p] + " " + p}
		}
	}
	return handEdit{"file" + file, spoilFile(file), ""}
}
