#!/bin/sh
# Installs from Debian's packages what the demo and the tests need, and says
# nothing when all of it is there.
set -eu
want="rsync podman crun netavark iptables mmdebstrap postgresql openssh-client iproute2 dpkg-dev rpm createrepo-c docker-registry busybox-static curl git gnupg gcc libc6-dev chromium fonts-dejavu-core"
missing=""
for p in $want; do
  [ "$(dpkg-query -W -f='${db:Status-Status}' "$p" 2>/dev/null)" = installed ] || missing="$missing $p"
done
[ -n "$missing" ] || exit 0
echo "installing$missing"
# The demo runs a PostgreSQL cluster of its own; the package need not make one.
if [ ! -e /etc/postgresql-common/createcluster.conf ]; then
  mkdir -p /etc/postgresql-common
  echo 'create_main_cluster = false' >/etc/postgresql-common/createcluster.conf
fi
# The tests run registries of their own; the package's service need not run.
if [ -d /etc/systemd/system ] && [ ! -e /etc/systemd/system/docker-registry.service ] && [ ! -e /usr/bin/docker-registry ]; then
  ln -s /dev/null /etc/systemd/system/docker-registry.service
fi
export DEBIAN_FRONTEND=noninteractive
log=$(mktemp)
if ! { apt-get update -q && apt-get install -y -q --no-install-recommends -o Dpkg::Options::=--force-confold $missing; } >"$log" 2>&1; then
  tail -n 30 "$log"
  echo "could not install$missing" >&2
  exit 1
fi
rm -f "$log"
