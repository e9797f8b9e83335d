#!/bin/sh
# A test suite of a few tests, run by
#
#     evensprout during --schema schema.sql -- ./test-ferries.sh

query() {
  case $DATABASE_URL in
    sqlite:*)   sqlite3 -bail "$DATABASE_FILE" "$1" ;;
    postgres:*) psql -qAt -c "$1" ;;
    mysql:*)    mariadb --no-defaults -N -B -h "$MYSQL_HOST" -P "$MYSQL_PORT" -u "$MYSQL_USER" "$MYSQL_DATABASE" -e "$1" ;;
  esac
}

failed=0
check() { # what, query, expected
  got=$(query "$2")
  if [ "$got" = "$3" ]; then
    echo "ok      $1"
  else
    echo "not ok  $1: $got, and not $3"
    failed=1
  fi
}

check 'all passengers are there'     'SELECT count(*) FROM passengers'                        5002
check 'nobody left before boarding'  'SELECT count(*) FROM sailings WHERE arrives_at <= departs_at'  0
check 'Ada is active'                "SELECT status FROM passengers WHERE given_name = 'Ada' AND family_name = 'Quill'"  active
exit $failed
