Name: caddy
Version: 2.6.2
Release: 1.hb1
Summary: A web server in this family's layout
License: Apache-2.0
AutoReqProv: no
Provides: webserver = %{version}
%global debug_package %{nil}
%global __strip /bin/true
%global _buildshell /bin/bash

%description
Lab build of Caddy from Debian's program.

%install
b=%{buildroot}
mkdir -p $b/usr/bin $b/etc/caddy/Caddyfile.d $b/usr/lib/systemd/system $b/var/lib/caddy $b/var/log/caddy $b/usr/share/caddy
install -m755 /usr/bin/caddy $b/usr/bin/caddy
cat > $b/etc/caddy/Caddyfile <<'C'
# The Caddyfile is an easy way to configure your Caddy web server.

http:// {
	# Set this path to your site's directory.
	root * /usr/share/caddy

	# Enable the static file server.
	file_server
}

# Site blocks can lie in files of their own, with this ending.
import Caddyfile.d/*.caddyfile
C
echo '<title>Caddy Works</title>' > $b/usr/share/caddy/index.html
cat > $b/usr/lib/systemd/system/caddy.service <<'U'
[Unit]
Description=Caddy web server
After=network.target network-online.target
Wants=network-online.target

[Service]
Type=notify
User=caddy
Group=caddy
ExecStartPre=/usr/bin/caddy validate --config /etc/caddy/Caddyfile
ExecStart=/usr/bin/caddy run --environ --config /etc/caddy/Caddyfile
ExecReload=/usr/bin/caddy reload --config /etc/caddy/Caddyfile --force
TimeoutStopSec=5s
PrivateTmp=true
AmbientCapabilities=CAP_NET_BIND_SERVICE

[Install]
WantedBy=multi-user.target
U

%pre
getent group caddy >/dev/null || groupadd -r caddy
getent passwd caddy >/dev/null || useradd -r -g caddy -s /sbin/nologin -d /var/lib/caddy -c Caddy caddy
exit 0
%post
[ -d /run/systemd/system ] && systemctl daemon-reload || :
%preun
if [ $1 -eq 0 ]; then systemctl --no-reload disable --now caddy.service || :; fi
%postun
[ -d /run/systemd/system ] && systemctl daemon-reload || :

%files
%attr(0755,root,root) /usr/bin/caddy
%dir /etc/caddy
%dir /etc/caddy/Caddyfile.d
%config(noreplace) /etc/caddy/Caddyfile
/usr/lib/systemd/system/caddy.service
/usr/share/caddy
%attr(0750,caddy,caddy) %dir /var/lib/caddy
%attr(0755,caddy,caddy) %dir /var/log/caddy
