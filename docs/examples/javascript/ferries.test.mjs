// Run by: evensprout during --schema schema.sql -- node --test
//
// The driver takes the database from the environment: pg reads PGHOST, PGPORT, PGUSER,
// PGPASSWORD and PGDATABASE by itself.
import test from 'node:test'
import assert from 'node:assert/strict'
import pg from 'pg'

test('the rows are the same every time', async (t) => {
  const db = new pg.Client(process.env.DATABASE_URL)
  await db.connect()
  t.after(() => db.end())
  const { rows } = await db.query('SELECT given_name, email FROM passengers WHERE id = 1')
  assert.deepEqual(rows, [{ given_name: 'Ada', email: 'ada.quill@example.net' }])
})

test('a cancelled booking gives its seats back', async (t) => {
  const db = new pg.Client(process.env.DATABASE_URL)
  await db.connect()
  t.after(() => db.end())
  await db.query('BEGIN') // rolled back with the connection
  const left = async () => Number((await db.query('SELECT sum(seats_left) AS n FROM sailings')).rows[0].n)
  const before = await left()
  await db.query(`UPDATE sailings SET seats_left = seats_left + (SELECT count(*) FROM tickets WHERE booking_id = 1)
    WHERE id = (SELECT sailing_id FROM bookings WHERE id = 1)`)
  assert.ok((await left()) > before)
})
