#!/bin/sh
# Makes the root file system of an image of web servers as a tar file: $1. It has the programs
# of three of them with what they need, and a shell.
set -eu
out=$1
work=$(mktemp -d /var/tmp/northstake-image.XXXXXX)
trap 'rm -rf "$work"' EXIT
mmdebstrap --mode=root --variant=extract --include=nginx,apache2-bin,caddy,media-types,busybox-static,base-passwd bookworm "$work/root"
cd "$work/root"
cp usr/share/base-passwd/passwd.master etc/passwd
cp usr/share/base-passwd/group.master etc/group
rm -rf usr/share/doc usr/share/locale usr/share/man usr/share/perl* usr/lib/*/perl* usr/lib/*/gconv var/lib/apt var/cache/apt lib/systemd usr/lib/systemd
rm -f usr/bin/*perl* usr/lib/*/libperl*
for tool in sh cat env sleep test ls; do
  rm -f usr/bin/$tool bin/$tool
  ln -s busybox bin/$tool
done
mkdir -p tmp run dev proc sys var/log
chmod 1777 tmp
tar -cf "$out" .
