#!/bin/sh
# Makes the root file system of a practice host of the Red Hat family as a tar
# file: $1. Specifications of its packages lie in the directory $2. dnf, rpm and
# firewalld are real and come from Debian's packages; the distribution, Harbour
# Linux, is made up, and its packages are built here from Debian's programs.
set -eu
out=$1
specs=$2
work=$(mktemp -d /var/tmp/northstake-image.XXXXXX)
trap 'rm -rf "$work"' EXIT
cat >"$work/finish" <<'X2'
#!/bin/sh
set -eu
root=$1
specs=$2
# Builders and what is built from: taken out again below.
tools="rpm createrepo-c apache2-bin media-types nginx caddy cron curl podman conmon crun netavark aardvark-dns iptables"
mkdir -p "$root/build" "$root/opt/lab-packages"
cp "$specs"/*.spec "$root/build/"
chroot "$root" apt-get install -y -q --no-install-recommends $tools
mkdir -p "$root/etc/rpm" "$root/var/lib/rpm" "$root/etc/yum.repos.d"
echo '%_dbpath /var/lib/rpm' >"$root/etc/rpm/macros"
for spec in "$root"/build/*.spec; do
  chroot "$root" rpmbuild -bb --quiet --define '_topdir /build/top' --define '_sourcedir /build' "/build/$(basename "$spec")"
done
find "$root/build/top/RPMS" -name '*.rpm' -exec mv {} "$root/opt/lab-packages/" \;
chroot "$root" createrepo_c --quiet /opt/lab-packages
rm -rf "$root/build"
chroot "$root" apt-get purge -y -q apache2-bin nginx nginx-common caddy cron curl podman conmon crun netavark aardvark-dns iptables golang-github-containers-common golang-github-containers-image createrepo-c >/dev/null
chroot "$root" apt-get autoremove --purge -y -q >/dev/null
printf '[harbour]\nname=Harbour Linux packages\nbaseurl=file:///opt/lab-packages\ngpgcheck=0\n' >"$root/etc/yum.repos.d/harbour.repo"
printf '[main]\ngpgcheck=0\ninstall_weak_deps=False\nkeepcache=0\n' >"$root/etc/dnf/dnf.conf"
chroot "$root" rpm --initdb
rm -f "$root/etc/os-release" "$root/usr/lib/os-release"
chroot "$root" rpm -i --nodeps /opt/lab-packages/harbourlinux-release-*.rpm
ln -s ../usr/lib/os-release "$root/etc/os-release"
chroot "$root" useradd -m -s /bin/bash -p '*' keeper
install -d -m 700 "$root/home/keeper/.ssh"
chroot "$root" chown -R keeper:keeper /home/keeper
echo 'keeper ALL=(ALL) NOPASSWD: ALL' >"$root/etc/sudoers.d/keeper"
chmod 440 "$root/etc/sudoers.d/keeper"
rm -f "$root"/etc/ssh/ssh_host_*
# RSA keys take a host that boots longer to make than all the rest.
cat >"$root/usr/local/sbin/host-keys" <<'K'
#!/bin/sh
for type in ecdsa ed25519; do
  [ -e /etc/ssh/ssh_host_${type}_key ] || ssh-keygen -q -t $type -N '' -f /etc/ssh/ssh_host_${type}_key
done
K
chmod 755 "$root/usr/local/sbin/host-keys"
mkdir -p "$root/etc/systemd/system/ssh.service.d"
printf '[Service]\nExecStartPre=\nExecStartPre=/usr/local/sbin/host-keys\nExecStartPre=/usr/sbin/sshd -t\n' >"$root/etc/systemd/system/ssh.service.d/keys.conf"
printf 'UseDNS no\nMaxStartups 200\nMaxSessions 50\n' >"$root/etc/ssh/sshd_config.d/lab.conf"
for u in apt-daily.timer apt-daily-upgrade.timer dnf-makecache.timer dpkg-db-backup.timer fstrim.timer e2scrub_all.timer systemd-resolved.service systemd-networkd-wait-online.service getty.target console-getty.service systemd-journald-audit.socket systemd-udevd.service; do
  ln -sf /dev/null "$root/etc/systemd/system/$u"
done
# Nor are there disks or terminals to be found each time that the manager reads its units (systemd.generator(7)).
mkdir -p "$root/etc/systemd/system-generators"
for g in cryptsetup debug fstab getty gpt-auto hibernate-resume integritysetup run system-update veritysetup; do
  ln -sf /dev/null "$root/etc/systemd/system-generators/systemd-$g-generator"
done
printf '[Journal]\nStorage=volatile\nRuntimeMaxUse=8M\n' >"$root/etc/systemd/journald.conf"
# A user's manager that has been told to stop never is seen to have stopped where control groups are of
# version 1 (a container is not told that one is empty), and the next login waits for that: it is left running.
mkdir -p "$root/etc/systemd/logind.conf.d"
printf '[Login]\nUserStopDelaySec=infinity\n' >"$root/etc/systemd/logind.conf.d/lab.conf"
chroot "$root" systemctl enable ssh firewalld >/dev/null 2>&1
# The programs of the Debian family are not there for anybody who looks.
for p in apt apt-get apt-cache apt-mark dpkg dpkg-query; do rm -f "$root/usr/bin/$p"; done
rm -rf "$root/var/lib/dpkg" "$root/var/cache/apt" "$root/etc/apt/sources.list.d" "$root/etc/debian_version"
rm -f "$root/etc/apt/sources.list"
: >"$root/etc/machine-id"
X2
chmod +x "$work/finish"
mmdebstrap --mode=root --variant=minbase --skip=cleanup/apt \
  --include=systemd,systemd-sysv,dbus,openssh-server,sudo,iproute2,procps,netbase,acl,attr,nftables,perl-base,dnf,firewalld \
  --customize-hook="'$work/finish' \"\$1\" '$specs'" \
  bookworm "$work/root.tar"
mv "$work/root.tar" "$out"
