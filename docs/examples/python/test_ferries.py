"""Tests of a program with a database, run by

    evensprout during --schema schema.sql -- python3 -m unittest

The database is that of DATABASE_URL. This reads it with what a plain Python has: its own
sqlite3, or the clients of the servers, which find host, port, user and name in the
environment. A driver such as psycopg or mysqlclient takes the same variables.
"""

import json
import os
import subprocess
import unittest


def rows(sql):
    """The rows of a query, as lists of texts."""
    scheme = os.environ["DATABASE_URL"].split(":")[0]
    if scheme == "sqlite":
        import sqlite3

        with sqlite3.connect(os.environ["DATABASE_FILE"]) as db:
            return [[str(cell) for cell in row] for row in db.execute(sql)]
    if scheme == "postgres":
        command = ["psql", "-qAt", "-F", "\t", "-c", sql]
    else:
        command = ["mariadb", "--no-defaults", "-N", "-B", "-h", os.environ["MYSQL_HOST"], "-P", os.environ["MYSQL_PORT"],
                   "-u", os.environ["MYSQL_USER"], os.environ["MYSQL_DATABASE"], "-e", sql]
    out = subprocess.run(command, check=True, capture_output=True, text=True).stdout
    return [line.split("\t") for line in out.splitlines()]


class Ferries(unittest.TestCase):
    def test_every_booking_has_a_ticket(self):
        self.assertEqual([["0"]], rows("SELECT count(*) FROM bookings b WHERE NOT EXISTS (SELECT 1 FROM tickets t WHERE t.booking_id = b.id)"))

    def test_the_rows_are_the_same_every_time(self):
        self.assertEqual([["Ada", "ada.quill@example.net"]], rows("SELECT given_name, email FROM passengers WHERE id = 1"))
        self.assertEqual([["18754"]], rows("SELECT count(*) FROM tickets"))

    def test_a_fixture_file_needs_no_database(self):
        # evensprout export --row Passenger.bo > bo.json
        with open("bo.json") as f:
            bo = json.load(f)
        self.assertEqual("Bo", bo["given_name"])
        self.assertEqual(2, len(bo["Booking"]))


if __name__ == "__main__":
    unittest.main()
