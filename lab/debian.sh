#!/bin/sh
# Makes the root file system of a practice host as a tar file: $1.
# The packages that hosts will install later lie in a small repository inside
# the image, so that applying needs no network.
set -eu
out=$1
work=$(mktemp -d /var/tmp/northstake-image.XXXXXX)
trap 'rm -rf "$work"' EXIT
later="podman crun conmon netavark aardvark-dns iptables nginx apache2 caddy php-fpm cron nftables ufw curl rsync tree postgresql"
cat >"$work/finish" <<'X'
#!/bin/sh
set -eu
root=$1
later=$2
mkdir -p "$root/opt/lab-packages"
chroot "$root" apt-get install -y -q --no-install-recommends --download-only $later
mv "$root"/var/cache/apt/archives/*.deb "$root/opt/lab-packages/"
( cd "$root/opt/lab-packages" && dpkg-scanpackages -m . >Packages 2>/dev/null )
rm -f "$root"/etc/apt/sources.list "$root"/etc/apt/sources.list.d/*
echo 'deb [trusted=yes] file:/opt/lab-packages ./' >"$root/etc/apt/sources.list"
rm -rf "$root"/var/lib/apt/lists/*
chroot "$root" apt-get update -q
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
for u in apt-daily.timer apt-daily-upgrade.timer dpkg-db-backup.timer fstrim.timer e2scrub_all.timer systemd-resolved.service systemd-networkd-wait-online.service getty.target console-getty.service systemd-journald-audit.socket systemd-udevd.service; do
  ln -sf /dev/null "$root/etc/systemd/system/$u"
done
# Nor are there disks or terminals to be found each time that the manager reads its units (systemd.generator(7)).
mkdir -p "$root/etc/systemd/system-generators"
for g in cryptsetup debug fstab getty gpt-auto hibernate-resume integritysetup run system-update veritysetup; do
  ln -sf /dev/null "$root/etc/systemd/system-generators/systemd-$g-generator"
done
printf '[Journal]\nStorage=volatile\nRuntimeMaxUse=8M\n' >"$root/etc/systemd/journald.conf"
chroot "$root" systemctl enable ssh >/dev/null 2>&1
# An engine in a host that is a container itself: no cgroups of its own, and files copied
# where layers cannot lie upon layers. Only hosts that may make namespaces can run it.
mkdir -p "$root/etc/systemd/system/podman.service.d" "$root/etc/containers/containers.conf.d"
printf '[Service]\nExecStartPre=-/bin/mount -o remount,rw /proc/sys\n' >"$root/etc/systemd/system/podman.service.d/lab.conf"
printf '[storage]\ndriver = "vfs"\nrunroot = "/run/containers/storage"\ngraphroot = "/var/lib/containers/storage"\n' >"$root/etc/containers/storage.conf"
printf '[engine]\ncgroup_manager = "cgroupfs"\nevents_logger = "file"\nexit_command_delay = 1\n[containers]\ncgroups = "disabled"\nlog_driver = "k8s-file"\ndefault_ulimits = ["nofile=500:500", "nproc=500:500"]\n' >"$root/etc/containers/containers.conf.d/lab.conf"
# A document root that comes with the image, and so lies in a lower layer.
mkdir -p "$root/opt/harbour/www"
echo '<p>From the image.</p>' >"$root/opt/harbour/www/index.html"
: >"$root/etc/machine-id"
X
chmod +x "$work/finish"
mmdebstrap --mode=root --variant=minbase --skip=cleanup/apt \
  --include=systemd,systemd-sysv,dbus,openssh-server,sudo,iproute2,procps,netbase,acl,attr \
  --customize-hook="'$work/finish' \"\$1\" '$later'" \
  bookworm "$work/root.tar"
mv "$work/root.tar" "$out"
