#!/usr/bin/env bash
# Makes every picture in docs/screenshots anew, from the demo's data.
set -euo pipefail
root=$(cd "$(dirname "$0")/.." && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
(cd "$root" && CGO_ENABLED=0 go build -o "$work/bin/evensprout" ./cmd/evensprout)
export PATH=$work/bin:$PATH PAGER=
shot() { "$root/scripts/screenshot.sh" "$@" 2>/dev/null; }

cd "$work"
# Of the demo's output: what was loaded, and the sale that is rolled back.
shot demo sh -c "evensprout demo --color always | awk '/done|Unit |must fail/{on=1} /760 rows|In larkwater/{on=0} on'"
cd larkwater
sqlite3 empty.db < schema.sql
shot survey evensprout survey --db sqlite:empty.db --tables passengers,amenities
shot preview evensprout preview --entity Passenger --rows 4
shot preview-spread evensprout preview --entity Passenger --spread
shot look evensprout look
shot add sh -c 'evensprout add Booking passenger=Passenger.ada --with Ticket:2; echo; evensprout look Passenger "Ada Quill"'
evensprout withdraw "$(evensprout history --json | grep -o '"load": [0-9]*' | tail -1 | grep -o '[0-9]*')" --quiet
shot unit sh -c 'evensprout load --unit sell --occasions full-boat.csv; echo; evensprout load --unit sell --occasions full-boat.csv --on-violation check=skip; echo; evensprout history'
# A test suite with a database of its own: the first run fills it, the second copies it.
cp "$root/docs/examples/shell/test-ferries.sh" .
export XDG_CACHE_HOME=$work/cache
shot during sh -c 'evensprout during --schema schema.sql -- ./test-ferries.sh
evensprout during --schema schema.sql -- ./test-ferries.sh
evensprout during --schema schema.sql --keep-on-failure -- sh -c "echo a test fails; exit 3"
echo "exit code $?"
evensprout during --sweep --kept --cached'
shot export sh -c 'evensprout export --format parquet --out rows; echo; evensprout export --migration 0042_fares --entity FareClass; cat 0042_fares.remove.sql'
evensprout diagram --out "$root/docs/screenshots/diagram.png" 2>/dev/null
evensprout page --db sqlite:larkwater.db --out page.html 2>/dev/null
(cd "$root/internal/page" && PAGE=$work/larkwater/page.html PART=entity-Booking PICTURE=$root/docs/screenshots/page.png \
  go test -count=1 -run TestPicture . >/dev/null)
evensprout trial --db sqlite:larkwater.db --quiet --chart "$root/docs/screenshots/trial.png" >/dev/null
shot catalog sh -c "evensprout catalog | sed -n '1,22p'; evensprout catalog person --locale de"

# A plan with mistakes of several kinds.
sed -e 's/{kind: locality}/{kind: lokality}/; s/LW-\[0-9\]{5}/LW-[0-9]{2}/; s/{sum: Ticket.price}/{sum: Ticket.prize}/' \
    -e 's/newsletter:  {share: 31%}/newsleter:   {share: 131%}/; s/rows: 9$/rows: -9/' evensprout.yaml > mistakes.yaml
shot check evensprout check mistakes.yaml

# A row that is there already and collides with a planned one.
sqlite3 other.db < schema.sql
email=$(sqlite3 larkwater.db 'SELECT email FROM passengers WHERE id = 1001 + 4321')
sqlite3 other.db "INSERT INTO passengers VALUES (900001, 'Uma', 'Wren', '$email', NULL, 'ZZ000000', 'active', 0, '2026-01-01 00:00:00', NULL, 0)"
shot refused evensprout load --db sqlite:other.db --without-units

# The same with the row left out; the sums above it are computed anew.
shot skip evensprout load --db sqlite:other.db --without-units --on-violation unique=skip

# New prices from a file, applied to rows that are there.
printf 'Code,New price\nDECK,4.75\nCABIN,19.00\nATTIC,99.00\n' > prices.csv
cat > prices.yaml <<'PLAN'
name: prices
seed: prices
clock: 2026-05-01T08:00:00Z
database: sqlite:larkwater.db
entities:
  FareClass:
    table: fare_classes
    write: update
    rows_from: {file: prices.csv, key: [code], columns: {code: Code, price: {column: New price, as: decimal}}}
PLAN
shot update sh -c 'cat prices.csv; evensprout load prices.yaml --changes changes.csv; echo; cat changes.csv'

# What others did since the load: it is told, and left alone.
sqlite3 larkwater.db "UPDATE passengers SET given_name = 'Zora' WHERE id = 1001; DELETE FROM tickets WHERE id IN (1, 2, 3);
  INSERT INTO crew (id, full_name, job) VALUES (9001, 'Uma Wren', 'cook');
  INSERT INTO bookings SELECT 99999, 'ZZ999999', passenger_id, sailing_id, booked_at, status, total FROM bookings WHERE passenger_id = 1005 LIMIT 1"
shot compare sh -c "evensprout compare --color always | grep -vE 'Compared|^  (Pier|Amenity|Vessel|Timetable)'"
for load in 6 5 4 3; do evensprout withdraw $load >/dev/null || true; done
shot withdraw evensprout withdraw 2 --also changed
