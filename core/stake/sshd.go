package stake

import (
	"strings"

	"northstake/core/wire"
)

// sshTakesIn is the service of the SSH server, to be reloaded or restarted, where it reads what lies at a
// path as it starts. It takes that in with the run that changes it: else the run is confirmed by a server
// that has not seen the change, and nobody gets in after the next restart. A host that is not reached
// over SSH, or has nothing that starts services, is none of those.
func SshTakesIn(path string, t wire.Traits) (reload, restart []string) {
	if t.SSHPort == 0 || t.ServiceManager == "none" {
		return nil, nil
	}
	service := "sshd"
	if t.Family == "debian" {
		service = "ssh"
	}
	switch {
	case path == "/etc/ssh/sshd_config" || strings.HasPrefix(path, "/etc/ssh/sshd_config.d/") || strings.HasPrefix(path, "/etc/ssh/ssh_host_"):
		return []string{service}, nil
	case path == "/etc/default/ssh" || path == "/etc/sysconfig/sshd" || strings.HasPrefix(path, "/etc/systemd/system/"+service+".service"):
		return nil, []string{service}
	}
	return nil, nil
}
