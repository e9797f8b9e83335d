#!/usr/bin/env bash
# How long the second run of a fixture of 100,000 rows takes to start, beside the engine's
# own copy of the same database in the same minute.
#
#   scripts/bench-during.sh [RUNS]
#
# PostgreSQL and MariaDB must answer at POSTGRES and MARIADB, which name a user that may make
# databases; an engine whose variable is empty is left out.
set -euo pipefail
cd "$(dirname "$0")/.."
runs=${1:-7}
POSTGRES=${POSTGRES-postgres://postgres@127.0.0.1:5432/postgres}
MARIADB=${MARIADB-mysql://root@127.0.0.1:3306/mysql}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
export XDG_CACHE_HOME=$work/cache
CGO_ENABLED=0 go build -o "$work/evensprout" ./cmd/evensprout
sed '/^units:/,$d; /^# Writes that belong/d; /^database:/d; s/rows: 5000/rows: 15700/' internal/demo/larkwater/evensprout.yaml > "$work/evensprout.yaml"
cp internal/demo/larkwater/schema.sql "$work"
cd "$work"

now() { date +%s%N; }
median() { sort -n | awk '{ a[NR] = $1 } END { print a[int((NR + 1) / 2)] }'; }

measure() { # engine, url, function that copies the database of a name
  local url=$2 whole=() copies=() started=()
  ./evensprout during --db "$url" --schema schema.sql --quiet -- true
  local from
  from=$($4)
  for _ in $(seq "$runs"); do
    local a b
    a=$(now)
    b=$(./evensprout during --db "$url" --schema schema.sql --quiet -- date +%s%N) # when the command begins
    started+=($(((b - a) / 1000)))
    a=$(now)
    "$3" "$from"
    copies+=($((($(now) - a) / 1000)))
    "drop_${3#copy_}"
  done
  local s c
  s=$(printf '%s\n' "${started[@]}" | median)
  c=$(printf '%s\n' "${copies[@]}" | median)
  awk -v e="$1" -v s="$s" -v c="$c" 'BEGIN { printf "%-12s started after %6.1f ms, the engine alone copies in %6.1f ms: %+.1f ms, ratio %.2f\n", e, s/1000, c/1000, (s-c)/1000, s/c }'
  ./evensprout during --db "$url" --sweep --cached >/dev/null
}

copy_sqlite() { cp "$1" "$work/copy.db"; }
drop_sqlite() { rm "$work/copy.db"; }
cached_sqlite() { ls "$work"/cache/evensprout/evensprout_cache_*.db; }
copy_postgres() { psql -qX "$POSTGRES" -c "CREATE DATABASE bench_copy TEMPLATE $1"; }
drop_postgres() { psql -qX "$POSTGRES" -c 'DROP DATABASE bench_copy'; }
cached_postgres() { psql -qXAt "$POSTGRES" -c "SELECT datname FROM pg_database WHERE datname LIKE 'evensprout_cache_%'"; }
maria() { mariadb -h 127.0.0.1 -u root "$@"; }
copy_mariadb() {
  maria -e 'CREATE DATABASE bench_copy'
  {
    echo 'SET foreign_key_checks = 0, unique_checks = 0;'
    mariadb-dump -h 127.0.0.1 -u root --no-data --skip-comments "$1"
    maria -N -e "SELECT CONCAT('INSERT INTO ', table_name, ' SELECT * FROM $1.', table_name, ';') FROM information_schema.tables WHERE table_schema = '$1' AND table_name <> 'evensprout_mark'"
  } | maria bench_copy
}
drop_mariadb() { maria -e 'DROP DATABASE bench_copy'; }
cached_mariadb() { maria -N -e "SHOW DATABASES LIKE 'evensprout\\_cache\\_%'"; }

measure SQLite "sqlite:$work/none.db" copy_sqlite cached_sqlite
[ -z "$POSTGRES" ] || measure PostgreSQL "$POSTGRES" copy_postgres cached_postgres
[ -z "$MARIADB" ] || measure MariaDB "$MARIADB" copy_mariadb cached_mariadb
