#!/usr/bin/env bash
# Loads the sample, made larger, into a cluster of three MariaDB nodes on loopback ports,
# and kills one node that is not written to in the middle. Then every row must be on both
# other nodes, also those to whom the database gave their keys, in the cluster's steps.
# Needs root, mariadb-server with galera-4, and rsync.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d)
chmod 755 "$work"
trap 'pkill -9 -f "datadir=$work/" || true; rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -o "$work/evensprout" ./cmd/evensprout
first=$((20000 + RANDOM % 20000))
port() { echo $((first + $1)); }
group() { echo $((first + 10 * $1)); }
sql() { mariadb --no-defaults -h 127.0.0.1 -P "$(port "$1")" -u root -N -B "${@:2}"; }

start() { # NODE ADDRESS [OPTION]
  local folder=$work/n$1
  mkdir -p "$folder"
  mariadb-install-db --no-defaults --datadir="$folder/data" --auth-root-authentication-method=normal --skip-test-db >"$folder/install" 2>&1
  chown -R mysql "$folder"
  mariadbd --no-defaults --user=mysql --datadir="$folder/data" --port="$(port "$1")" --socket="$folder/socket" --pid-file="$folder/pid" --bind-address=127.0.0.1 \
    --binlog-format=ROW --innodb-autoinc-lock-mode=2 --innodb-flush-log-at-trx-commit=0 --innodb-buffer-pool-size=64M \
    --wsrep-on=ON --wsrep-provider=/usr/lib/galera/libgalera_smm.so --wsrep-cluster-name=larkwater --wsrep-cluster-address="$2" --wsrep-node-address="127.0.0.1:$(group "$1")" \
    --wsrep-provider-options="gmcast.listen_addr=tcp://127.0.0.1:$(group "$1");ist.recv_addr=127.0.0.1:$(($(group "$1") + 1))" \
    --wsrep-sst-method=rsync --wsrep-sst-receive-address="127.0.0.1:$(($(group "$1") + 2))" "${@:3}" >"$folder/log" 2>&1 &
  disown
  for _ in $(seq 300); do sql "$1" -e 'SELECT 1' >/dev/null 2>&1 && return; sleep 0.2; done
  tail -20 "$folder/log"; exit 1
}
start 1 gcomm:// --wsrep-new-cluster
start 2 "gcomm://127.0.0.1:$(group 1)"
start 3 "gcomm://127.0.0.1:$(group 1)"
echo "nodes: $(sql 1 -e "SHOW STATUS LIKE 'wsrep_cluster_size'" | cut -f2)"

sql 1 -e 'CREATE DATABASE larkwater CHARACTER SET utf8mb4'
sql 1 larkwater < internal/demo/larkwater/schema.sql
sql 1 larkwater -e 'CREATE TABLE tags (id INTEGER AUTO_INCREMENT PRIMARY KEY, label VARCHAR(20) NOT NULL);
  CREATE TABLE uses (id INTEGER AUTO_INCREMENT PRIMARY KEY, tag_id INTEGER NOT NULL REFERENCES tags (id))'
sed 's/rows: 5000/rows: 60000/' internal/demo/larkwater/evensprout.yaml > "$work/larkwater.yaml"
cat > "$work/tags.yaml" <<'PLAN'
name: tags
seed: tags
clock: 2026-05-01T08:00:00Z
entities:
  Tag: {table: tags, keys: database, rows: 2000, fields: {label: {kind: noun}}}
  Use: {table: uses, keys: database, per: {Tag: 2}}
PLAN
url="mysql://root@127.0.0.1:$(port 1)/larkwater"
"$work/evensprout" load "$work/larkwater.yaml" --db "$url" --commit chunk --chunk 5000 >"$work/out" 2>&1 &
load=$!
until [ "$(sql 1 larkwater -e 'SELECT EXISTS (SELECT 1 FROM bookings)')" = 1 ]; do sleep 0.1; done
kill -9 "$(cat "$work/n3/pid")"
echo 'node 3 is killed'
wait "$load" || { cat "$work/out"; exit 1; }
tail -1 "$work/out"
"$work/evensprout" load "$work/tags.yaml" --db "$url" | tail -1
for node in 1 2; do
  sql "$node" larkwater -e "SET SESSION wsrep_sync_wait = 1; SELECT 'node $node:', count(*), 'tickets;', (SELECT count(*) FROM uses u JOIN tags t ON t.id = u.tag_id), 'uses of', (SELECT count(*) FROM tags), 'tags' FROM tickets"
done
[ "$(sql 1 larkwater -e 'CHECKSUM TABLE passengers, bookings, tickets, tags, uses')" = "$(sql 2 larkwater -e 'CHECKSUM TABLE passengers, bookings, tickets, tags, uses')" ] && echo 'both nodes hold the same rows'
