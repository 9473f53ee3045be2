Name: cronie
Version: 1.6.1
Release: 1.hb1
Summary: A daemon that runs commands at set times, under this family's name
License: GPL-2.0
AutoReqProv: no
%global debug_package %{nil}
%global _buildshell /bin/bash

%description
Lab build of cron from Debian's program. The unit is crond, as in this family.

%install
b=%{buildroot}
mkdir -p $b/usr/sbin $b/usr/lib/systemd/system $b/etc/cron.d $b/var/spool/cron/crontabs
install -m755 /usr/sbin/cron $b/usr/sbin/crond
cat > $b/usr/lib/systemd/system/crond.service <<'U'
[Unit]
Description=Command Scheduler
After=auditd.service

[Service]
ExecStart=/usr/sbin/crond -f
KillMode=process
Restart=on-failure

[Install]
WantedBy=multi-user.target
U

%post
[ -d /run/systemd/system ] && systemctl daemon-reload || :
%preun
if [ $1 -eq 0 ]; then systemctl --no-reload disable --now crond.service || :; fi
%postun
[ -d /run/systemd/system ] && systemctl daemon-reload || :

%files
%attr(0755,root,root) /usr/sbin/crond
/usr/lib/systemd/system/crond.service
%dir /etc/cron.d
%dir /var/spool/cron/crontabs
