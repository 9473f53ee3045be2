Name: nginx
Version: 1.22.1
Release: 1.hb1
Summary: A web server in this family's layout
License: BSD-2-Clause
AutoReqProv: no
Provides: webserver = %{version}
%global debug_package %{nil}
%global _buildshell /bin/bash

%description
Lab build of nginx from Debian's program.

%install
b=%{buildroot}
mkdir -p $b/usr/sbin $b/etc/nginx/{conf.d,default.d} $b/usr/lib/systemd/system $b/var/log/nginx $b/var/lib/nginx/tmp $b/usr/share/nginx/html
install -m755 /usr/sbin/nginx $b/usr/sbin/nginx
cp /etc/nginx/mime.types $b/etc/nginx/mime.types
cat > $b/etc/nginx/nginx.conf <<'N'
user nginx;
worker_processes auto;
error_log /var/log/nginx/error.log notice;
pid /run/nginx.pid;

events {
    worker_connections 1024;
}

http {
    log_format main '$remote_addr - $remote_user [$time_local] "$request" $status $body_bytes_sent';
    access_log /var/log/nginx/access.log main;
    sendfile on;
    keepalive_timeout 65;
    include /etc/nginx/mime.types;
    default_type application/octet-stream;
    include /etc/nginx/conf.d/*.conf;

    server {
        listen 80;
        listen [::]:80;
        server_name _;
        root /usr/share/nginx/html;
        include /etc/nginx/default.d/*.conf;
    }
}
N
echo '<title>Test Page for the HTTP Server</title>' > $b/usr/share/nginx/html/index.html
cat > $b/usr/lib/systemd/system/nginx.service <<'U'
[Unit]
Description=The nginx HTTP and reverse proxy server
After=network-online.target

[Service]
Type=forking
PIDFile=/run/nginx.pid
ExecStartPre=/usr/bin/rm -f /run/nginx.pid
ExecStartPre=/usr/sbin/nginx -t
ExecStart=/usr/sbin/nginx
ExecReload=/usr/sbin/nginx -s reload
KillSignal=SIGQUIT
TimeoutStopSec=5
KillMode=mixed
PrivateTmp=true

[Install]
WantedBy=multi-user.target
U

%pre
getent group nginx >/dev/null || groupadd -r nginx
getent passwd nginx >/dev/null || useradd -r -g nginx -s /sbin/nologin -d /var/lib/nginx -c Nginx nginx
exit 0
%post
[ -d /run/systemd/system ] && systemctl daemon-reload || :
%preun
if [ $1 -eq 0 ]; then systemctl --no-reload disable --now nginx.service || :; fi
%postun
[ -d /run/systemd/system ] && systemctl daemon-reload || :

%files
%attr(0755,root,root) /usr/sbin/nginx
%dir /etc/nginx
%dir /etc/nginx/conf.d
%dir /etc/nginx/default.d
%config(noreplace) /etc/nginx/nginx.conf
%config(noreplace) /etc/nginx/mime.types
/usr/lib/systemd/system/nginx.service
/usr/share/nginx
%dir /var/lib/nginx
%attr(0755,nginx,nginx) %dir /var/lib/nginx/tmp
%attr(0755,root,root) %dir /var/log/nginx
