Name: httpd
Version: 2.4.71
Release: 1.hb1
Summary: Apache HTTP Server in Red Hat's layout
License: Apache-2.0
AutoReqProv: no
Provides: webserver = %{version}, config(httpd) = %{version}-%{release}
Requires(pre): /bin/sh
%global debug_package %{nil}
%global _buildshell /bin/bash

%description
Lab build of httpd from Debian's binaries.

%install
b=%{buildroot}
mkdir -p $b/usr/sbin $b/usr/libexec/httpd $b/usr/lib64/httpd/{modules,lib} \
  $b/etc/httpd/{conf,conf.d,conf.modules.d} $b/var/www/{html,cgi-bin} $b/var/log/httpd $b/etc/sysconfig \
  $b/usr/lib/systemd/system $b/usr/lib/tmpfiles.d $b/usr/share/httpd/noindex
install -m755 /usr/sbin/apache2 $b/usr/libexec/httpd/httpd
for m in /usr/lib/apache2/modules/*.so; do case $m in *ldap*|*lua*|*_md.so|*dbd*|*xml2enc*|*proxy_html*|*session_crypto*) ;; *) install -m644 $m $b/usr/lib64/httpd/modules/;; esac; done
cp -L /usr/lib/x86_64-linux-gnu/lib{apr-1,aprutil-1}.so.0 $b/usr/lib64/httpd/lib/
cat > $b/usr/sbin/httpd <<'X'
#!/bin/sh
export LD_LIBRARY_PATH=/usr/lib64/httpd/lib
# Debian's binary has /etc/apache2/apache2.conf compiled in; a later -d or -f still wins.
case " $* " in *" -V "*) /usr/libexec/httpd/httpd -d /etc/httpd -f conf/httpd.conf "$@" | sed 's|"/etc/apache2"|"/etc/httpd"|;s|"apache2.conf"|"conf/httpd.conf"|'; exit;; esac
exec /usr/libexec/httpd/httpd -d /etc/httpd -f conf/httpd.conf "$@"
X
printf '#!/bin/sh\ncase "$1" in start|stop|restart|reload|status) exec systemctl "$1" httpd;; graceful) exec systemctl reload httpd;; configtest) exec httpd -t;; *) exec httpd "$@";; esac\n' > $b/usr/sbin/apachectl
chmod 755 $b/usr/sbin/*
ln -s ../../usr/lib64/httpd/modules $b/etc/httpd/modules
ln -s ../../var/log/httpd $b/etc/httpd/logs
ln -s /run/httpd $b/etc/httpd/run
cp /etc/mime.types $b/etc/httpd/conf/mime.types
echo 'OPTIONS=' > $b/etc/sysconfig/httpd
echo 'd /run/httpd 0710 root apache' > $b/usr/lib/tmpfiles.d/httpd.conf
( echo 'LoadModule mpm_event_module modules/mod_mpm_event.so' ) > $b/etc/httpd/conf.modules.d/00-mpm.conf
for m in access_compat actions alias allowmethods auth_basic authn_core authn_file authz_core authz_groupfile authz_host authz_user autoindex brotli cache cgid deflate dir env expires ext_filter filter headers include mime mime_magic negotiation remoteip reqtimeout rewrite setenvif slotmem_shm socache_shmcb status substitute vhost_alias; do echo "LoadModule ${m}_module modules/mod_$m.so"; done > $b/etc/httpd/conf.modules.d/00-base.conf
for m in proxy proxy_http proxy_http2 proxy_fcgi proxy_wstunnel proxy_balancer lbmethod_byrequests; do echo "LoadModule ${m}_module modules/mod_$m.so"; done > $b/etc/httpd/conf.modules.d/00-proxy.conf
for m in ssl http2; do echo "LoadModule ${m}_module modules/mod_$m.so"; done > $b/etc/httpd/conf.modules.d/00-ssl.conf
cat > $b/etc/httpd/conf/httpd.conf <<'X'
ServerRoot "/etc/httpd"
PidFile /run/httpd/httpd.pid
Listen 80
Include conf.modules.d/*.conf
User apache
Group apache
ServerAdmin root@localhost
<Directory />
    AllowOverride none
    Require all denied
</Directory>
DocumentRoot "/var/www/html"
<Directory "/var/www">
    AllowOverride None
    Require all granted
</Directory>
<Directory "/var/www/html">
    Options Indexes FollowSymLinks
    AllowOverride None
    Require all granted
</Directory>
<IfModule dir_module>
    DirectoryIndex index.html
</IfModule>
<Files ".ht*">
    Require all denied
</Files>
ErrorLog "logs/error_log"
LogLevel warn
LogFormat "%h %l %u %t \"%r\" %>s %b \"%{Referer}i\" \"%{User-Agent}i\"" combined
CustomLog "logs/access_log" combined
TypesConfig conf/mime.types
AddDefaultCharset UTF-8
# Debian's binary has a folder of that family compiled in.
ScriptSock /run/httpd/cgisock
IncludeOptional conf.d/*.conf
X
cat > $b/etc/httpd/conf.d/welcome.conf <<'X'
<LocationMatch "^/+$">
    Options -Indexes
    ErrorDocument 403 /.noindex.html
</LocationMatch>
Alias /.noindex.html /usr/share/httpd/noindex/index.html
<Directory /usr/share/httpd/noindex>
    Require all granted
</Directory>
X
echo '<title>HTTP Server Test Page</title>' > $b/usr/share/httpd/noindex/index.html
cat > $b/usr/lib/systemd/system/httpd.service <<'X'
[Unit]
Description=The Apache HTTP Server
After=network.target remote-fs.target nss-lookup.target

[Service]
Type=exec
Environment=LANG=C
EnvironmentFile=-/etc/sysconfig/httpd
RuntimeDirectory=httpd
ExecStart=/usr/sbin/httpd $OPTIONS -DFOREGROUND
ExecReload=/usr/sbin/httpd $OPTIONS -k graceful
KillSignal=SIGWINCH
KillMode=mixed
PrivateTmp=true
OOMPolicy=continue

[Install]
WantedBy=multi-user.target
X

%pre
getent group apache >/dev/null || groupadd -g 48 -r apache
getent passwd apache >/dev/null || useradd -r -u 48 -g apache -s /sbin/nologin -d /usr/share/httpd -c Apache apache
exit 0
%post
[ -d /run/systemd/system ] && systemctl daemon-reload || :
%preun
if [ $1 -eq 0 ]; then systemctl --no-reload disable --now httpd.service || :; fi
%postun
[ -d /run/systemd/system ] && systemctl daemon-reload || :

%files
%attr(0755,root,root) /usr/sbin/httpd
%attr(0755,root,root) /usr/sbin/apachectl
/usr/libexec/httpd
/usr/lib64/httpd
%dir /etc/httpd
%dir /etc/httpd/conf
%dir /etc/httpd/conf.d
%dir /etc/httpd/conf.modules.d
%config(noreplace) /etc/httpd/conf/*
%config(noreplace) /etc/httpd/conf.d/*
%config(noreplace) /etc/httpd/conf.modules.d/*
/etc/httpd/modules
/etc/httpd/logs
/etc/httpd/run
%config(noreplace) /etc/sysconfig/httpd
/usr/lib/systemd/system/httpd.service
/usr/lib/tmpfiles.d/httpd.conf
/usr/share/httpd
%dir /var/www
%dir /var/www/html
%dir /var/www/cgi-bin
%attr(0700,root,root) %dir /var/log/httpd
