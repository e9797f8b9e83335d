#!/usr/bin/env bash
# Writing against what the engines bring along: loading 1,000,000 rows of seven columns
# (a primary key and one more unique key) and withdrawing them, upserts, updates by key, left-out rows. Every
# line is a ratio of two things that ran one after the other; the rounds' median counts.
# Needs psql, mariadb and sqlite3, and servers that may be filled: by default those of
# this machine. A database evensprout_bench is made anew on both.
#   scripts/bench-writing.sh [ROWS [ROUNDS [PART ...]]]   PART: loads, parts, jobs, upserts, skips, updates, loops
set -euo pipefail
rows=${1:-1000000} rounds=${2:-3}
shift $(($# < 2 ? $# : 2))
what=${*:-loads parts jobs upserts skips updates loops}
pg=${BENCH_POSTGRES:-postgres://postgres@127.0.0.1:5432}
maria=${BENCH_MARIADB:-mysql://root@127.0.0.1:3306}
name=evensprout_bench
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -o "$work/evensprout" ./cmd/evensprout
cd "$work"

columns='id INTEGER PRIMARY KEY, code VARCHAR(10) NOT NULL UNIQUE, label VARCHAR(60) NOT NULL, status VARCHAR(10) NOT NULL, level INTEGER NOT NULL, price DECIMAL(8,2) NOT NULL'
plan() { # FILE EXTRA-LINE
  cat > "$1" <<PLAN
name: bench
seed: bench
clock: 2026-05-01T08:00:00Z
entities:
  Reading:
    table: readings
    $2
    rows: $rows
    fields:
      code:     {pattern: "[A-HJ-NP-Z]{2}[0-9]{8}", unique: true}
      label:    {kind: name}
      status:   {choose: {active: 80, dormant: 15, barred: 5}}
      level:    {between: 1..100000}
      price:    {between: [1.00, 99.95], step: 0.05}
      taken_at: {before: clock, within: 400d}
PLAN
}
plan load.yaml 'when: empty'
plan upsert.yaml 'write: {mode: upsert, match: [code], set: [label, status, level, price, taken_at]}'
plan skip.yaml 'on_violation: {unique: skip}'

psql() { command psql -Xq "$pg/$name" "$@"; }
server=${maria#mysql://} user=${server%%@*} address=${server#*@}
mysql() { mariadb --local-infile=1 -u "$user" -h "${address%%:*}" -P "${address##*:}" "$@"; }
command psql -Xq "$pg/postgres" -c "DROP DATABASE IF EXISTS $name" -c "CREATE DATABASE $name" 2>/dev/null
mysql -e "DROP DATABASE IF EXISTS $name; CREATE DATABASE $name"
seconds() { local from to; from=$(date +%s.%N); "$@" >out 2>&1 || [ $? = 6 ] || { cat out >&2; exit 1; }; to=$(date +%s.%N); awk -v a="$from" -v b="$to" 'BEGIN { print b - a }'; }
ours() { ./evensprout load "$@"; }
table() { psql -c 'DROP TABLE IF EXISTS readings' -c 'DROP SCHEMA IF EXISTS evensprout CASCADE' -c "CREATE TABLE readings ($columns, taken_at TIMESTAMP NOT NULL)" 2>/dev/null; }
wide() { # four more indexes and two foreign keys
  table
  psql -c 'DROP TABLE IF EXISTS piers, boats CASCADE' -c 'CREATE TABLE piers (id INTEGER PRIMARY KEY)' -c 'CREATE TABLE boats (id INTEGER PRIMARY KEY)' \
    -c 'INSERT INTO piers SELECT generate_series(1, 500)' -c 'INSERT INTO boats SELECT generate_series(1, 500)' \
    -c 'ALTER TABLE readings ADD pier_id INTEGER NOT NULL REFERENCES piers, ADD boat_id INTEGER NOT NULL REFERENCES boats' \
    -c 'CREATE INDEX ON readings (pier_id)' -c 'CREATE INDEX ON readings (boat_id)' -c 'CREATE INDEX ON readings (label)' \
    -c 'CREATE INDEX ON readings (taken_at)' 2>/dev/null
}
mtable() { mysql "$name" -e "DROP TABLE IF EXISTS readings, evensprout_loads, evensprout_chunks, evensprout_contents; CREATE TABLE readings ($columns, taken_at DATETIME NOT NULL)"; }
filled() { # the server has written its pages, so that it does not do so while the time runs
  table; psql -c 'INSERT INTO readings SELECT * FROM base' -c 'ANALYZE readings' -c 'CHECKPOINT'
}

sed -e 's/^entities:/entities:\n  Pier: {table: piers, rows: existing}\n  Boat: {table: boats, rows: existing}/' \
  -e 's/^      code:/      pier_id: {pick: Pier}\n      boat_id: {pick: Boat}\n      code:/' load.yaml > wide.yaml
# The rows as files and as a table, made once.
wide; ours wide.yaml --db "$pg/$name" >/dev/null 2>&1
psql -c '\copy (SELECT * FROM readings ORDER BY id) TO wide.csv CSV'
table; ours load.yaml --db "$pg/$name" >/dev/null 2>&1
psql -c '\copy (SELECT * FROM readings ORDER BY id) TO rows.csv CSV' -c 'CREATE TABLE base AS SELECT * FROM readings'
mtable; ours load.yaml --db "$maria/$name" >/dev/null 2>&1
mysql "$name" -B -N -e 'SELECT * FROM readings ORDER BY id' > rows.tsv
awk 'NR % 100 == 0' rows.csv > some.csv
for n in 20000 200000; do
  psql -c "\\copy (SELECT code, level + 7 AS level FROM base ORDER BY code LIMIT $n) TO levels$n.csv CSV HEADER"
  cat > "update$n.yaml" <<PLAN
name: levels
seed: levels
clock: 2026-05-01T08:00:00Z
entities:
  Reading:
    table: readings
    write: {mode: update, match: [code], set: [level]}
    rows_from: {file: levels$n.csv, key: [code], columns: {code: code, level: {column: level, as: integer}}}
PLAN
  { echo 'BEGIN; PREPARE u(varchar, int) AS UPDATE readings SET level = $2 WHERE code = $1;'
    tail -n +2 "levels$n.csv" | awk -F, '{ print "EXECUTE u(\x27" $1 "\x27," $2 ");" }'; echo 'COMMIT;'; } > "loop$n.sql"
done
different='(readings.label, readings.status, readings.level, readings.price, readings.taken_at) IS DISTINCT FROM (excluded.label, excluded.status, excluded.level, excluded.price, excluded.taken_at)'
cat > upsert.sql <<SQL
BEGIN;
CREATE TEMP TABLE s (LIKE readings);
\\copy s FROM rows.csv CSV
INSERT INTO readings SELECT * FROM s ON CONFLICT (code) DO UPDATE SET label = excluded.label, status = excluded.status, level = excluded.level,
  price = excluded.price, taken_at = excluded.taken_at WHERE $different;
COMMIT;
SQL
# The same, keeping in a table of its own what the changed rows held.
sed -e "s/^INSERT INTO readings.*/CREATE TABLE held AS SELECT readings.* FROM readings JOIN s AS excluded USING (code) WHERE $different;\n&/" \
  -e '/^BEGIN/a DROP TABLE IF EXISTS held;' upsert.sql > upsertheld.sql
for n in 20000 200000; do
  cat > "staged$n.sql" <<SQL
BEGIN;
CREATE TEMP TABLE s (code VARCHAR(10), level INTEGER);
\\copy s FROM levels$n.csv CSV HEADER
UPDATE readings t SET level = s.level FROM s WHERE s.code = t.code;
COMMIT;
SQL
done

line() { # WHAT AT-MOST OURS THEIRS
  echo "$3 $4" >> "$(echo "$1" | tr -c 'a-zA-Z0-9\n' '_').times"
  printf '%s\t%s\n' "$1" "$2" >> names
}
half() { filled; psql -c "UPDATE readings SET level = level + 1 WHERE id > $rows / 2" -c 'VACUUM FULL readings' -c 'ANALYZE readings'; }
halves() { ours load.yaml "$@" --part 1/2 & local first=$!; ours load.yaml "$@" --part 2/2 && wait $first; }
jobs() { # several connections, where a load commits in between
  for n in 2 4; do
    table; a=$(seconds ours load.yaml --db "$pg/$name" --commit chunk --jobs $n)
    table; b=$(seconds ours load.yaml --db "$pg/$name" --commit chunk --jobs 1)
    line "PostgreSQL: --commit chunk --jobs $n, against --jobs 1" - "$a" "$b"
    mtable; a=$(seconds ours load.yaml --db "$maria/$name" --commit chunk --jobs $n)
    mtable; b=$(seconds ours load.yaml --db "$maria/$name" --commit chunk --jobs 1)
    line "MariaDB: --commit chunk --jobs $n, against --jobs 1" - "$a" "$b"
  done
}
parts() { # several processes
  table; a=$(seconds halves --db "$pg/$name")
  table; b=$(seconds ours load.yaml --db "$pg/$name" --commit chunk --jobs 1)
  line 'PostgreSQL: two parts by two processes, against one' 0.65 "$a" "$b"
  mtable; a=$(seconds halves --db "$maria/$name")
  mtable; b=$(seconds ours load.yaml --db "$maria/$name" --commit chunk --jobs 1)
  line 'MariaDB: two parts by two processes, against one' 0.65 "$a" "$b"
}
loads() {
  table; a=$(seconds ours load.yaml --db "$pg/$name")
  c=$(seconds ./evensprout withdraw load.yaml --db "$pg/$name")
  table; b=$(seconds psql -c '\copy readings FROM rows.csv CSV')
  line 'PostgreSQL: load, against copy by psql' 0.55 "$a" "$b"
  b=$(seconds psql -c "DELETE FROM readings WHERE id BETWEEN 1 AND $rows")
  line 'PostgreSQL: withdraw, against DELETE by the key' 1.2 "$c" "$b"
  table; a=$(seconds ours load.yaml --db "$pg/$name" --indexes keep)
  table; b=$(seconds psql -c '\copy readings FROM rows.csv CSV')
  line 'PostgreSQL: load --indexes keep, against the same' 1.0 "$a" "$b"
  a=$(seconds ./evensprout compare load.yaml --db "$pg/$name")
  b=$(seconds psql -c '\copy readings TO read.csv CSV')
  line 'PostgreSQL: compare, against copy to a file by psql' 1.5 "$a" "$b"
  wide; a=$(seconds ours wide.yaml --db "$pg/$name")
  wide; b=$(seconds psql -c '\copy readings FROM wide.csv CSV')
  line 'with four more indexes and two foreign keys' 0.45 "$a" "$b"
  mtable; a=$(seconds ours load.yaml --db "$maria/$name")
  c=$(seconds ./evensprout withdraw load.yaml --db "$maria/$name")
  mtable; b=$(seconds mysql "$name" -e "LOAD DATA LOCAL INFILE 'rows.tsv' INTO TABLE readings")
  line 'MariaDB: load, against LOAD DATA LOCAL INFILE' 0.95 "$a" "$b"
  b=$(seconds mysql "$name" -e "DELETE FROM readings WHERE id BETWEEN 1 AND $rows")
  line 'MariaDB: withdraw, against DELETE by the key' 1.2 "$c" "$b"
  rm -f a.db b.db
  sqlite3 a.db "CREATE TABLE readings ($columns, taken_at TIMESTAMP NOT NULL)"; a=$(seconds ours load.yaml --db sqlite:a.db)
  c=$(seconds ./evensprout withdraw load.yaml --db sqlite:a.db)
  sqlite3 b.db "CREATE TABLE readings ($columns, taken_at TIMESTAMP NOT NULL)"; b=$(seconds sqlite3 b.db '.mode csv' '.import rows.csv readings')
  line 'SQLite: load, against .import' 0.7 "$a" "$b"
  b=$(seconds sqlite3 b.db "DELETE FROM readings WHERE id BETWEEN 1 AND $rows")
  line 'SQLite: withdraw, against DELETE by the key' 1.2 "$c" "$b"
}
upserts() {
  half; a=$(seconds ours upsert.yaml --db "$pg/$name" --no-undo)
  half; b=$(seconds psql -f upsert.sql)
  line 'upsert --no-undo, half changed, against staging by hand' 1.1 "$a" "$b"
  half; a=$(seconds ours upsert.yaml --db "$pg/$name")
  line 'upsert, keeping what the rows held, against the same' - "$a" "$b"
  half; b=$(seconds psql -f upsertheld.sql)
  line 'upsert, keeping what the rows held, against staging that does' 1.1 "$a" "$b"
}
skips() {
  table; b=$(seconds ours skip.yaml --db "$pg/$name")
  table; psql -c '\copy readings FROM some.csv CSV' -c 'UPDATE readings SET id = -id' -c 'ANALYZE readings'
  a=$(seconds ours skip.yaml --db "$pg/$name" --rejects "left-$RANDOM$RANDOM.ndjson")
  line 'skip with 1% duplicate keys, against none' 1.2 "$a" "$b"
}
updates() {
  for n in 20000 200000; do
    filled; a=$(seconds ours "update$n.yaml" --db "$pg/$name" --no-undo)
    filled; b=$(seconds psql -f "staged$n.sql")
    line "update --no-undo of $n rows, against staging by hand" 0.95 "$a" "$b"
  done
}
loops() {
  for n in 20000 200000; do
    filled; a=$(seconds ours "update$n.yaml" --db "$pg/$name" --no-undo)
    filled; b=$(seconds psql -f "loop$n.sql")
    line "update --no-undo of $n rows, against a loop" 0.05 "$a" "$b"
  done
}
for _ in $(seq "$rounds"); do
  for part in $what; do "$part"; done
done
printf '%-61s %9s %9s %8s %13s %8s\n' what ours theirs ratio 'least, most' 'at most'
sort -u names | while IFS=$'\t' read -r what most; do
  sort -n "$(echo "$what" | tr -c 'a-zA-Z0-9\n' '_').times" | awk -v what="$what" -v most="$most" '
    { ratio[NR] = $1 / $2; a[NR] = $1; b[NR] = $2 }
    END { for (i = 1; i <= NR; i++) for (j = i + 1; j <= NR; j++) if (ratio[j] < ratio[i]) { t = ratio[i]; ratio[i] = ratio[j]; ratio[j] = t; t = a[i]; a[i] = a[j]; a[j] = t; t = b[i]; b[i] = b[j]; b[j] = t }
      m = int(NR / 2) + 1; printf "%-61s %7.2f s %7.2f s %8.2f %6.2f, %5.2f %8s\n", what, a[m], b[m], ratio[m], ratio[1], ratio[NR], most }'
done
