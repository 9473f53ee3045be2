# How a host stands, by its own tools and none of ours: a line for each thing, its name, a
# tab, and what it is. Arguments are directories that are looked at whole.
export LC_ALL=C
for dir in "$@"; do
  [ -e "$dir" ] || continue
  find "$dir" -name .northstake -prune -o -printf 'path %p\t%y %m %u %g %l\n'
  find "$dir" -name .northstake -prune -o -user keeper -type f -printf 'time %p\t%TY-%Tm-%Td %TH:%TM\n'
  getfacl -R -p -s "$dir" 2>/dev/null | awk '/^# file: / {f = substr($0, 9)} /^[^#]/ {a[f] = a[f] " " $1} END {for (f in a) if (f !~ /\.northstake/) print "acl " f "\t" substr(a[f], 2)}'
  getfattr -R -P -h -d --absolute-names "$dir" 2>/dev/null | awk '/^# file: / {f = substr($0, 9)} /^[^#]/ {a[f] = a[f] " " $0} END {for (f in a) if (f !~ /\.northstake/) print "attr " f "\t" substr(a[f], 2)}'
  find "$dir" -name .northstake -prune -o -type f -print0 | xargs -0 -r sha256sum | sed 's/^\\*\([0-9a-f]*\)  \(.*\)$/sum \2\t\1/'
done
if command -v dpkg-query >/dev/null; then
  dpkg-query -W -f 'package ${Package}\t${db:Status-Abbrev}${Version}\n'
fi
if [ -e /var/lib/rpm/rpmdb.sqlite ]; then
  rpm -qa --qf 'package %{NAME}\t%{VERSION}-%{RELEASE}\n'
fi
for unit in nginx apache2 httpd cron crond; do
  printf 'service %s\t%s %s %s\n' "$unit" "$(systemctl is-active "$unit")" "$(systemctl is-enabled "$unit" 2>/dev/null)" "$(systemctl show -p DropInPaths --value "$unit" 2>/dev/null)"
done
ss -Hltn | awk '{print "listens " $4 "\tyes"}' | sort -u
nft -s list ruleset 2>/dev/null | grep -v 'handle\|^$' | sed 's/^/rule /; s/$/\tyes/' | sort -u
getent passwd | awk -F: '{print "account " $1 "\t" $3 " " $6 " " $7}'
getent group | awk -F: '{print "group " $1 "\t" $3 " " $4}'
