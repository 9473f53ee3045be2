package filter

import (
	"context"
	"errors"
	"path/filepath"
	"strings"

	"northstake/core/wire"
	"northstake/host/system"
)

// Service is the name of what loads North Stake's own table at boot, and BootLink what
// switches it on where that is a unit of systemd's.
const (
	Service  = "northstake-firewall"
	BootLink = "/etc/systemd/system/sysinit.target.wants/northstake-firewall.service"
)

// File keeps the table over restarts.
const File = "/etc/northstake/firewall.nft"

// Loader is the file that loads the table at boot.
type Loader struct {
	Path wire.Path
	Mode wire.Mode
	Text string
}

// LoaderFor is the file that a service manager loads the table by: a unit of systemd,
// or a script of System V's init.
func LoaderFor(manager string) Loader {
	if manager == "systemd" {
		return Loader{"/etc/systemd/system/northstake-firewall.service", "0644", unitText}
	}
	return Loader{"/etc/init.d/northstake-firewall", "0755", scriptText}
}

// unitText is the unit that loads the table at boot, and again after
// nftables.service has flushed everything.
const unitText = `[Unit]
Description=Ports that North Stake lets in
After=nftables.service
PartOf=nftables.service
ReloadPropagatedFrom=nftables.service
Before=network-pre.target
Wants=network-pre.target
DefaultDependencies=no
Conflicts=shutdown.target
Before=shutdown.target

[Service]
Type=oneshot
RemainAfterExit=yes
ExecStart=/usr/sbin/nft -f ` + File + `
ExecReload=/usr/sbin/nft -f ` + File + `

[Install]
WantedBy=sysinit.target nftables.service
`

// scriptText is the script that loads the table at boot (init-d-script(5),
// LSB init scripts).
const scriptText = `#!/bin/sh
### BEGIN INIT INFO
# Provides:          northstake-firewall
# Required-Start:    $local_fs
# Required-Stop:     $local_fs
# Should-Start:      nftables
# X-Start-Before:    $network
# Default-Start:     2 3 4 5
# Default-Stop:
# Short-Description: Ports that North Stake lets in
### END INIT INFO
# chkconfig: 2345 08 92
# description: Ports that North Stake lets in
PATH=/usr/sbin:/usr/bin:/sbin:/bin
case "$1" in
  start|restart|reload|force-reload) exec nft -f ` + File + ` ;;
  stop) nft delete ` + wire.FirewallTable + ` 2>/dev/null || true ;;
  status) exec nft list ` + wire.FirewallTable + ` >/dev/null 2>&1 ;;
  *) echo "usage: $0 start|stop|restart|reload|force-reload|status" >&2; exit 2 ;;
esac
`

// FileText is the file that loads the table: the old one is replaced in
// the same transaction.
func FileText(table string) string {
	return "#!/usr/sbin/nft -f\n" + wire.FirewallTable + "\ndelete " + wire.FirewallTable + "\n" + table
}

// KeptIn is the table that a file of that form loads. Of another text it is all.
func KeptIn(text string) string {
	if table, ok := strings.CutPrefix(text, FileText("")); ok {
		return table
	}
	return text
}

// startsAtBoot says whether a unit is started at boot, by the links that enabling it makes
// (systemctl(1)); on a machine without systemd its script counts as started.
func startsAtBoot(m *system.Machine, service string) bool {
	if !m.HasSystemd() {
		return true
	}
	links, err := filepath.Glob(m.Path(wire.Path("/etc/systemd/system/*.wants/" + service + ".service")))
	return err == nil && len(links) > 0
}

// conf is what nftables.service loads at boot (nft(8)).
const conf = "/etc/nftables.conf"

// RulesAtBoot are the rules that the host's own nftables.service loads at boot, as the
// kernel reads them in a network namespace of their own; nil where it loads none, or where
// the host lets nobody have such a namespace, so that nothing can be told.
func RulesAtBoot(ctx context.Context, m *system.Machine) (*Filters, error) {
	if !m.HasSystemd() || !m.Exists(conf) || !startsAtBoot(m, "nftables") {
		return nil, nil
	}
	key := m.FileKey(conf)
	for _, dir := range []string{"/etc/nftables", "/etc/nftables.d"} {
		key += m.FileKey(wire.Path(dir))
	}
	return system.Cached(m, "rules at boot", key, func() (*Filters, error) {
		b, err := m.Run(ctx, nil, "unshare", "--net", "--", "sh", "-c", "nft -f "+conf+" && exec nft -j list ruleset")
		var failed *system.Failed
		if errors.As(err, &failed) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		f, err := ParseRuleset(b)
		if err == nil {
			f.here = lookAround()
		}
		return f, err
	})
}
