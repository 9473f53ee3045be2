#!/bin/sh
# fuzz.sh TIME: fuzzes every target for a time, and keeps in testdata some of the inputs
# that reached something new, so that every test run starts from them.
set -eu
time=${1:-1m}
kept=30 # inputs of each target, the smallest
cache=$(go env GOCACHE)/fuzz/northstake
grep -rl --include='*_test.go' '^func Fuzz' . | sort | while read -r file; do
  dir=$(dirname "$file")
  for target in $(sed -n 's/^func \(Fuzz[A-Za-z0-9]*\)(.*/\1/p' "$file"); do
    echo "$dir $target"
    go test -run '^$' -fuzz "^$target\$" -fuzztime "$time" -fuzzminimizetime 20x "$dir" </dev/null
    [ -d "$cache/$dir/$target" ] || continue
    mkdir -p "$dir/testdata/fuzz/$target"
    find "$cache/$dir/$target" -type f -size -4k -printf '%s %p\n' | sort -n | head -n $kept | cut -d' ' -f2- |
      xargs -r cp -n -t "$dir/testdata/fuzz/$target"
  done
done
