package draft

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

const businessTables = `
CREATE TABLE countries (code CHAR(2) PRIMARY KEY, name VARCHAR(60) NOT NULL, currency CHAR(3));
CREATE TABLE languages (id INTEGER PRIMARY KEY, iso_code VARCHAR(5) UNIQUE NOT NULL, name TEXT NOT NULL);
CREATE TABLE tenants (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
CREATE TABLE users (id INTEGER PRIMARY KEY, email TEXT NOT NULL);
CREATE TABLE customers (id INTEGER PRIMARY KEY, tenant_id INTEGER NOT NULL REFERENCES tenants (id),
  created_at TIMESTAMP NOT NULL);
CREATE TABLE orders (id INTEGER PRIMARY KEY, tenant_id INTEGER NOT NULL REFERENCES tenants (id),
  customer_id INTEGER NOT NULL REFERENCES customers (id), user_id INTEGER NOT NULL REFERENCES users (id),
  placed_at TIMESTAMP NOT NULL);
CREATE TABLE invoices (id INTEGER PRIMARY KEY, tenant_id INTEGER NOT NULL REFERENCES tenants (id),
  order_id INTEGER NOT NULL REFERENCES orders (id), customer_id INTEGER NOT NULL REFERENCES customers (id),
  user_id INTEGER NOT NULL REFERENCES users (id), payer_id INTEGER REFERENCES customers (id),
  issued_on DATE NOT NULL, paid_at TIMESTAMP);
CREATE TABLE items (id INTEGER PRIMARY KEY, order_id INTEGER NOT NULL REFERENCES orders (id) ON DELETE CASCADE,
  customer_id INTEGER NOT NULL REFERENCES customers (id));
CREATE TABLE appointments (id INTEGER PRIMARY KEY, customer_id INTEGER NOT NULL REFERENCES customers (id),
  starts_at TIMESTAMP NOT NULL, ends_at TIMESTAMP NOT NULL);
CREATE TABLE shops (id INTEGER PRIMARY KEY, opens_at TIME NOT NULL, closes_at TIME NOT NULL);
`

// Two ways to the same row agree, but somebody who acts is not tied to it; dates and moments follow each other; tables
// of countries hold countries.
func TestRowsOfABusinessAgree(t *testing.T) {
	text, _ := drafted(t, surveyed(t, businessTables), Options{})
	for _, c := range [][3]string{
		{"Order", "tenant_id", "{same: customer_id.tenant_id}"},
		{"Order", "user_id", "{pick: User}"},
		{"Invoice", "tenant_id", "{same: order_id.tenant_id}"},
		{"Invoice", "customer_id", "{same: order_id.customer_id}"},
		{"Invoice", "payer_id", "{pick: Customer, nulls: 10%}"},
		{"Invoice", "user_id", "{pick: User}"},
		{"Invoice", "issued_on", "{after: order_id.placed_at, before: clock, within: 60d}"},
		{"Invoice", "paid_at", "{after: issued_on, before: clock, within: 14d, step: 1m, nulls: 30%}"},
		{"Item", "customer_id", "{same: Order.customer_id}"},
		{"Appointment", "starts_at", "{after: customer_id.created_at, before: clock, within: 60d, hours: 8-18, " +
			"weekdays: mon-fri, step: 15m}"},
		{"Country", "code", "{from: nation.code, unique: true}"},
		{"Country", "name", "{from: nation.name}"},
		{"Language", "iso_code", "{from: tongue.code, unique: true}"},
		{"Country", "rows", "12"},
	} {
		assert.Equal(t, c[2], line(t, text, c[0], c[1]), "%s.%s", c[0], c[1])
	}
	assert.Contains(t, text, `- "opens_at <= closes_at"`)
}

// Lines of an order can be so few that they are no family of it: then no path goes by the family.
const fewLines = `
CREATE TABLE orders (id INTEGER PRIMARY KEY, placed_at TIMESTAMP NOT NULL, line_count INTEGER NOT NULL);
CREATE TABLE order_lines (id INTEGER PRIMARY KEY, order_id INTEGER NOT NULL REFERENCES orders (id) ON DELETE CASCADE,
  packed_at TIMESTAMP NOT NULL, shelf VARCHAR(40) NOT NULL UNIQUE CHECK (shelf IN ('a', 'b', 'c')));
CREATE TABLE returns (id INTEGER PRIMARY KEY, order_id INTEGER NOT NULL REFERENCES orders (id),
  order_line_id INTEGER NOT NULL REFERENCES order_lines (id) ON DELETE CASCADE, returned_at TIMESTAMP NOT NULL);
`

func TestPathsOfFamiliesThatEnded(t *testing.T) {
	text, _ := drafted(t, surveyed(t, fewLines), Options{})
	for _, c := range [][3]string{
		{"OrderLine", "rows", "3"},
		{"OrderLine", "order_id", "{pick: Order}"},
		{"OrderLine", "packed_at", "{after: order_id.placed_at, before: clock, within: 60d}"},
		{"Return", "order_id", "{same: order_line_id.order_id}"},
		{"Return", "returned_at", "{after: order_line_id.packed_at, before: clock, within: 60d}"},
	} {
		assert.Equal(t, c[2], line(t, text, c[0], c[1]), "%s.%s", c[0], c[1])
	}
	assert.NotContains(t, text, "count_of", "what is no child is not counted")
}
