#!/bin/sh
# Takes a picture of a command's output in a terminal window: FILE COMMAND.
# Needs Debian's xvfb, xterm and imagemagick.
set -eu
file=$1
shift
export DISPLAY=:97
Xvfb :97 -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
trap 'kill $server 2>/dev/null || true' EXIT
sleep 1
LC_ALL=C.UTF-8 COLORTERM=truecolor TERM=xterm-256color xterm -fa 'DejaVu Sans Mono' -fs 10.5 -bg '#f6f2e7' -fg '#1e2a2e' -bd '#f6f2e7' +sb -b 12 -geometry 140x43+0+0 \
  -e sh -c "printf '\033[2m\$ %s\033[0m\n' \"\$1\"; eval \"\$1\"; sleep 4" sh "$*" &
sleep 3
import -window root "$file"
convert "$file" -crop 1280x800+0+0 +repage -bordercolor '#f6f2e7' -border 1 -trim +repage -border 14 "$file"
