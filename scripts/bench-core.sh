#!/usr/bin/env bash
# What growing, reading plans and starting cost, against what we want, as a table.
# Cells are told without the row's own cost (that of a literal): a table of eight fields.
#   scripts/bench-core.sh
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -o "$work/evensprout" ./cmd/evensprout
go test -run xxx -bench 'Cells/(literal|count|between|choose|share|moment|uuid|text|pattern-unique)$' -benchtime 1000000x -count 3 ./internal/grow > "$work/cells"
go test -run xxx -bench Derive -count 3 ./internal/derive > "$work/derive"
go test -run xxx -bench Large -count 3 ./internal/plan > "$work/plan"

# least NAME FILE FIELD: the least of three runs, in the field before a unit.
least() { grep "/$1-" "$2" | awk -v u="$3" '{ for (i = 2; i <= NF; i++) if ($i == u) print $(i-1) }' | sort -g | head -1; }
row() { printf '%-52s %12s %12s\n' "$1" "$2" "$3"; }
row what measured 'at most'
base=$(least literal "$work/cells" ns/op)
for kind in count between choose share moment uuid; do
  ns=$(least $kind "$work/cells" ns/cell)
  row "a cell of $kind, its row's cost included" "$ns ns" '100 ns'
done
row 'a text of three parts and two filters' "$(awk -v a="$(least text "$work/cells" ns/op)" -v b="$base" 'BEGIN { printf "%.0f ns", (a-b*10/8)/8 }')" '150 ns'
row 'a unique pattern' "$(awk -v a="$(least pattern-unique "$work/cells" ns/op)" -v b="$base" 'BEGIN { printf "%.0f ns", (a-b)/8 }')" '200 ns'
row 'an expression over decimals' "$(least decimals "$work/derive" ns/op) ns" '4000 ns'
row 'an expression over text' "$(least text "$work/derive" ns/op) ns" '4000 ns'
row 'reading a plan of 300 entities, 5,100 fields' "$(awk '/LargePlan/ { print $3/1e6 }' "$work/plan" | sort -g | head -1) ms" '500 ms'

fastest() { for _ in $(seq 15); do /usr/bin/env time -f %e -o "$work/t" "$@" >/dev/null 2>&1; cat "$work/t"; done | sort -g | head -1; }
row 'starting and printing help' "$(fastest "$work/evensprout" --help) s" '0.02 s'
cat > "$work/huge.yaml" <<'PLAN'
name: huge
seed: huge
clock: 2026-05-01T08:00:00Z
entities:
  Pier: {rows: 1000000000, fields: {code: {pattern: "[A-Z]{9}", unique: true}}}
  Passenger:
    rows: 1000000000
    fields:
      email: {text: "{n}@example.net", unique: true}
      n:     {pattern: "[a-z]{8}", unique: true}
      pier:  {pick: Pier}
      total: {sum: Booking.price}
  Booking: {per: {Passenger: 0..3}, fields: {price: {between: [1.00, 9.00]}, pier: {pick: Pier}}}
PLAN
row 'preview --row 0 of 10^9, with what is below' "$(fastest "$work/evensprout" preview "$work/huge.yaml" --entity Passenger --row 0) s" ''
row 'preview --row 999999999 of 10^9' "$(fastest "$work/evensprout" preview "$work/huge.yaml" --entity Passenger --row 999999999) s" 'as row 0'

for rows in 200000 2000000; do
  sed "s/rows: 1000000000, fields: {code/rows: $rows, fields: {code/; s/rows: 1000000000/rows: $rows/" "$work/huge.yaml" > "$work/some.yaml"
  /usr/bin/env time -f %M -o "$work/t" "$work/evensprout" preview "$work/some.yaml" --fingerprints --rows 0 >/dev/null
  row "peak memory of growing $((rows * 7 / 2)) rows" "$(awk '{ printf "%.1f MiB", $1/1024 }' "$work/t")" 'flat'
done
python3 - "$work/big.csv" 2>/dev/null <<'PY' || awk 'BEGIN { print "n,pad"; for (i = 0; i < 1000000; i++) printf "%d,%0999d\n", i, i }' > "$work/big.csv"
import sys
with open(sys.argv[1], 'w') as f:
    f.write('n,pad\n')
    for i in range(1_000_000):
        f.write(f'{i},{"x" * 990}{i:07d}\n')
PY
printf 'name: big\nseed: big\nclock: 2026-05-01T08:00:00Z\nentities:\n  Big:\n    rows_from: {file: big.csv, columns: {n: n, pad: pad}}\n' > "$work/big.yaml"
/usr/bin/env time -f '%M %e' -o "$work/t" "$work/evensprout" preview "$work/big.yaml" --rows 1 >/dev/null
row "peak memory of reading a CSV of $(($(stat -c %s "$work/big.csv") / 1000000)) MB" "$(awk '{ printf "%.1f MiB", $1/1024 }' "$work/t")" 'flat'
