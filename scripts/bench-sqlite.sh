#!/usr/bin/env bash
# Rows of seven columns (a primary key and one more unique key) into SQLite: growing
# and loading them with evensprout, against the .import of the C shell from a ready
# file of the same rows. Prints the ratio of the times of each round and peak memory.
#   scripts/bench-sqlite.sh [ROWS [ROUNDS]]
set -euo pipefail
rows=${1:-1000000} rounds=${2:-3}
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -o "$work/evensprout" ./cmd/evensprout

table='CREATE TABLE readings (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, label TEXT NOT NULL, status TEXT NOT NULL, level INTEGER NOT NULL, price DECIMAL(8,2) NOT NULL, taken_at TIMESTAMP NOT NULL);'
cat > "$work/plan.yaml" <<PLAN
name: bench
seed: bench
clock: 2026-05-01T08:00:00Z
entities:
  Reading:
    table: readings
    rows: $rows
    fields:
      code:     {pattern: "[A-HJ-NP-Z]{2}[0-9]{8}", unique: true}
      label:    {kind: name}
      status:   {choose: {active: 80, dormant: 15, barred: 5}}
      level:    {between: 1..100000}
      price:    {between: [1.00, 99.95], step: 0.05}
      taken_at: {before: clock, within: 400d}
PLAN

fresh() { rm -f "$work/$1"; sqlite3 "$work/$1" "$table"; }
seconds() { /usr/bin/env time -f '%e %M' -o "$work/time" "$@" >"$work/out" 2>&1 || { cat "$work/out"; exit 1; }; cat "$work/time"; }

printf '%-6s %14s %10s %14s %8s\n' round evensprout peak .import ratio
for round in $(seq "$rounds"); do
  fresh a.db
  read -r ours peak < <(seconds "$work/evensprout" load "$work/plan.yaml" --db "sqlite:$work/a.db")
  [ -e "$work/rows.csv" ] || sqlite3 -csv "$work/a.db" 'SELECT * FROM readings' > "$work/rows.csv"
  fresh b.db
  read -r shell _ < <(seconds sqlite3 "$work/b.db" '.mode csv' ".import $work/rows.csv readings")
  awk -v r="$round" -v a="$ours" -v b="$shell" -v m="$peak" 'BEGIN { printf "%-6s %12.2f s %7.1f MiB %11.2f s %8.2f\n", r, a, m/1024, b, a/b }'
done
cmp <(sqlite3 "$work/a.db" 'SELECT * FROM readings') <(sqlite3 "$work/b.db" 'SELECT * FROM readings') && echo "the rows are the same"
