#!/usr/bin/env bash
# Fuzzes every reader for so many seconds (10 if none are said), several at a time. What
# makes one fail is kept in its package, under testdata/fuzz.
set -euo pipefail
cd "$(dirname "$0")/.."
seconds=${1:-10}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT

# one fuzzes a target: package and name.
one() {
  if ! go test "$1" -run xxx -fuzz "^$2\$" -fuzztime "${seconds}s" -fuzzminimizetime 1x -parallel 1 >"$work/$2-$$" 2>&1; then
    # At the end of its time go test may report a worker's own deadline as a failure.
    if ! grep -q 'context deadline exceeded' "$work/$2-$$" || grep -q 'Failing input' "$work/$2-$$"; then
      cat "$work/$2-$$"
      echo "FAILED: $1 $2"
      return 1
    fi
  fi
  echo "$1 $2: $(grep -o 'execs: [0-9]*' "$work/$2-$$" | tail -1)"
}
export -f one
export seconds work

grep -rHo --include='*_test.go' '^func Fuzz[A-Za-z]*' internal |
  sed -E 's|^(.*)/[^/]*:func (Fuzz.*)$|./\1 \2|' | sort |
  xargs -P "$(nproc)" -L 1 bash -c 'one "$@"' one
