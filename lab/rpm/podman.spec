Name: podman
Version: 4.3.1
Release: 1.hb1
Summary: Container engine in Red Hat's layout
License: Apache-2.0
AutoReqProv: no
Requires: conmon, crun, netavark, containers-common
%global debug_package %{nil}
%global _buildshell /bin/bash

%description
Lab build of podman from Debian's binaries.

%package -n conmon
Summary: Monitor of containers
AutoReqProv: no
%description -n conmon
Lab build of conmon from Debian's binaries.

%package -n crun
Summary: Runtime of containers
AutoReqProv: no
%description -n crun
Lab build of crun from Debian's binaries.

%package -n netavark
Summary: Networks of containers
AutoReqProv: no
Requires: iptables-nft
%description -n netavark
Lab build of netavark from Debian's binaries.

%package -n iptables-nft
Summary: Packet filter rules
AutoReqProv: no
%description -n iptables-nft
Lab build of iptables from Debian's binaries.

%package -n containers-common
Summary: Settings of container engines, and libraries that they share
AutoReqProv: no
%description -n containers-common
Settings for engines in practice hosts, which are containers themselves: no cgroups of their own, and
files copied where layers cannot lie upon layers.

%install
b=%{buildroot}
lib=/usr/lib/x86_64-linux-gnu
mkdir -p $b/usr/bin $b/usr/sbin $b/usr/lib/podman $b/usr/lib/systemd/system/podman.service.d \
  $b/usr/lib64/containers $b/etc/ld.so.conf.d $b/etc/containers/containers.conf.d $b/usr/share/containers $b$lib/xtables
install -m755 /usr/bin/{podman,conmon,crun} $b/usr/bin/
cp -L /usr/lib/podman/{netavark,aardvark-dns} $b/usr/lib/podman/
cp /lib/systemd/system/podman{.service,.socket,-restart.service} $b/usr/lib/systemd/system/
install -m755 /usr/sbin/xtables-nft-multi $b/usr/sbin/
for p in {iptables,ip6tables}{,-save,-restore}; do ln -s xtables-nft-multi $b/usr/sbin/$p; done
cp $lib/xtables/*.so $b$lib/xtables/
# What base systems have is theirs; what Debian's programs need besides lies in a place of its own.
ldd /usr/bin/{podman,conmon,crun} /usr/sbin/xtables-nft-multi /usr/lib/podman/* | awk '$3 ~ /^\// { print $3 }' | sort -u |
  grep -Ev '/lib(c|m|dl|rt|pthread|resolv|gcc_s)\.so' | xargs -I{} cp -L {} $b/usr/lib64/containers/
echo /usr/lib64/containers > $b/etc/ld.so.conf.d/containers.conf
cp /etc/containers/policy.json $b/etc/containers/
cp /usr/share/containers/* $b/usr/share/containers/
printf '[Service]\nExecStartPre=-/bin/mount -o remount,rw /proc/sys\n' > $b/usr/lib/systemd/system/podman.service.d/lab.conf
printf '[storage]\ndriver = "vfs"\nrunroot = "/run/containers/storage"\ngraphroot = "/var/lib/containers/storage"\n' > $b/etc/containers/storage.conf
printf '[engine]\ncgroup_manager = "cgroupfs"\nevents_logger = "file"\nexit_command_delay = 1\n[containers]\ncgroups = "disabled"\nlog_driver = "k8s-file"\ndefault_ulimits = ["nofile=500:500", "nproc=500:500"]\n' > $b/etc/containers/containers.conf.d/lab.conf

%post -n containers-common
/sbin/ldconfig

%files
/usr/bin/podman
/usr/lib/systemd/system/podman*

%files -n conmon
/usr/bin/conmon

%files -n crun
/usr/bin/crun

%files -n netavark
/usr/lib/podman

%files -n iptables-nft
/usr/sbin/*
/usr/lib/x86_64-linux-gnu/xtables

%files -n containers-common
/usr/lib64/containers
/etc/ld.so.conf.d/containers.conf
%config(noreplace) /etc/containers
/usr/share/containers
