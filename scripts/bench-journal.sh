#!/usr/bin/env bash
# What the journal costs, and what it is good for: a load of 1,000,000 rows of seven columns
# into PostgreSQL with and without it, one after the other; the size of its tables; a
# comparison of the unchanged table against reading it once; and the time to bring a
# fixture of 10,000 rows back after 20 changes. Needs psql, and a server that may be filled:
# by default the one of this machine. A database evensprout_bench is made anew on it.
#   scripts/bench-journal.sh [ROWS [ROUNDS]]
set -euo pipefail
rows=${1:-1000000} rounds=${2:-5}
pg=${BENCH_POSTGRES:-postgres://postgres@127.0.0.1:5432}
name=evensprout_bench
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -o "$work/evensprout" ./cmd/evensprout
cd "$work"
export DATABASE_URL=$pg/$name

plan() { # FILE ROWS
  cat > "$1" <<PLAN
name: bench
seed: bench
clock: 2026-05-01T08:00:00Z
entities:
  Reading:
    table: readings
    rows: $2
    fields:
      code:     {pattern: "[A-HJ-NP-Z]{2}[0-9]{8}", unique: true}
      label:    {kind: name}
      status:   {choose: {active: 80, dormant: 15, barred: 5}}
      level:    {between: 1..100000}
      price:    {between: [1.00, 99.95], step: 0.05}
      taken_at: {before: clock, within: 400d}
PLAN
}
plan load.yaml "$rows"
plan small.yaml 10000
psql() { command psql -Xq "$pg/$name" "$@"; }
command psql -Xq "$pg/postgres" -c "DROP DATABASE IF EXISTS $name" -c "CREATE DATABASE $name" 2>/dev/null
table() {
  psql -c 'DROP TABLE IF EXISTS readings' -c 'DROP SCHEMA IF EXISTS evensprout CASCADE' -c 'CREATE TABLE readings (id INTEGER PRIMARY KEY, code VARCHAR(10) NOT NULL UNIQUE,
    label VARCHAR(60) NOT NULL, status VARCHAR(10) NOT NULL, level INTEGER NOT NULL, price DECIMAL(8,2) NOT NULL, taken_at TIMESTAMP NOT NULL)' -c CHECKPOINT 2>/dev/null
}
seconds() { local from to; from=$(date +%s.%N); "$@" >out 2>&1 || { cat out >&2; exit 1; }; to=$(date +%s.%N); awk -v a="$from" -v b="$to" 'BEGIN { print b - a }'; }
median() { sort -n "$1" | awk '{ v[NR] = $1 } END { print v[int(NR / 2) + 1] }'; }

for round in $(seq "$rounds"); do
  for way in $([ $((round % 2)) = 0 ] && echo with without || echo without with); do
    table
    [ "$way" = with ] && flag= || flag=--no-journal
    seconds ./evensprout load load.yaml $flag > "$way"
  done
  paste with without | awk '{ print $1 / $2 }' >> ratio
  paste with without >> times
done
table
took=$(seconds ./evensprout load load.yaml --statements)
within=$(awk '/evensprout|pg_catalog.pg_tables|advisory/ && $4 == "ms" { gsub(",", "", $3); sum += $3 } END { print sum / 1000 }' out)
size=$(psql -At -c "SELECT sum(pg_total_relation_size(c.oid)) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = 'evensprout' AND c.relkind = 'r'")
for _ in $(seq 3); do
  a=$(seconds ./evensprout compare load.yaml) b=$(seconds psql -c '\copy readings TO rows.csv CSV')
  echo "$a" >> compare; echo "$b" >> copy; awk -v a="$a" -v b="$b" 'BEGIN { print a / b }' >> comparatio
done
table
./evensprout load small.yaml >/dev/null
for _ in $(seq 7); do
  psql -c "UPDATE readings SET level = level + 1 WHERE id IN (SELECT 1 + 700 * n FROM generate_series(0, 11) n)" -c "DELETE FROM readings WHERE id BETWEEN 5000 AND 5003" \
    -c "INSERT INTO readings SELECT 100000 + n, 'X' || n, 'x', 'active', 1, 1, now() FROM generate_series(1, 4) n"
  seconds ./evensprout load small.yaml --restore >> restore
  grep -q 'rows inserted, 12 changed back, 4 deleted' out || { cat out; exit 1; }
done
printf 'load with the journal, against without      %s (%s of %s rounds; want at most 1.02)\n' "$(median ratio)" median "$rounds"
echo '  seconds with and without:'; sed 's/^/    /' times
printf 'statements of the journal                   %s s of %s s: %s%% (want at most 2%%)\n' "$within" "$took" "$(awk -v a="$within" -v b="$took" 'BEGIN { printf "%.2f", 100 * a / b }')"
printf 'size of the journal                         %d KiB (want at most 1024)\n' $((size / 1024))
printf 'compare, unchanged                          %s s, %s of \\copy to a file by psql\n' "$(median compare)" "$(median comparatio)"
printf 'restore 10,000 rows after 20 changes        %s s (want at most 0.15)\n' "$(median restore)"
