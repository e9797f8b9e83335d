-- Larkwater Ferries: a small ferry line on an invented lake.
-- Thirteen tables, with one of everything that makes test data hard.

CREATE TABLE fare_classes (              -- reference data, written out by hand
  code        VARCHAR(8)    PRIMARY KEY,
  label       VARCHAR(40)   NOT NULL,
  price       DECIMAL(8,2)  NOT NULL CHECK (price >= 0)
);

CREATE TABLE piers (
  id          INTEGER       PRIMARY KEY,
  code        CHAR(3)       NOT NULL UNIQUE,
  name        VARCHAR(60)   NOT NULL,
  postal_code VARCHAR(12)   NOT NULL,
  closed_on   DATE                       -- NULL: open
);

CREATE TABLE vessels (
  id           INTEGER      PRIMARY KEY,
  name         VARCHAR(60)  NOT NULL UNIQUE,
  home_pier_id INTEGER      NOT NULL REFERENCES piers (id),
  seats        INTEGER      NOT NULL CHECK (seats BETWEEN 40 AND 400),
  launched_on  DATE         NOT NULL,
  notice_html  TEXT         NOT NULL
);

CREATE TABLE amenities (
  id          INTEGER       PRIMARY KEY,
  label       VARCHAR(40)   NOT NULL UNIQUE
);

CREATE TABLE vessel_amenities (          -- many to many
  vessel_id   INTEGER       NOT NULL REFERENCES vessels (id) ON DELETE CASCADE,
  amenity_id  INTEGER       NOT NULL REFERENCES amenities (id),
  PRIMARY KEY (vessel_id, amenity_id)
);

CREATE TABLE crew (                      -- a tree: everybody reports to somebody
  id            INTEGER     PRIMARY KEY,
  full_name     VARCHAR(80) NOT NULL,
  job           VARCHAR(40) NOT NULL,
  reports_to_id INTEGER     REFERENCES crew (id),
  vessel_id     INTEGER     REFERENCES vessels (id)   -- NULL: works on land
);

CREATE TABLE timetable (                 -- a composite unique key
  id          INTEGER       PRIMARY KEY,
  pier_id     INTEGER       NOT NULL REFERENCES piers (id),
  weekday     INTEGER       NOT NULL CHECK (weekday BETWEEN 1 AND 7),
  leaves_at   TIME          NOT NULL,
  UNIQUE (pier_id, weekday, leaves_at)
);

CREATE TABLE sailings (
  id           INTEGER      PRIMARY KEY,
  code         VARCHAR(10)  NOT NULL UNIQUE,
  timetable_id INTEGER      NOT NULL REFERENCES timetable (id),
  vessel_id    INTEGER      NOT NULL REFERENCES vessels (id),
  departs_at   TIMESTAMP    NOT NULL,
  arrives_at   TIMESTAMP    NOT NULL,
  seats_left   INTEGER      NOT NULL CHECK (seats_left >= 0),
  CONSTRAINT arrives_later CHECK (arrives_at > departs_at)
);

CREATE TABLE passengers (
  id          INTEGER       PRIMARY KEY,
  given_name  VARCHAR(40)   NOT NULL,
  family_name VARCHAR(40)   NOT NULL,
  email       VARCHAR(120)  NOT NULL UNIQUE,
  tel         VARCHAR(24),
  card        CHAR(8)       NOT NULL UNIQUE,
  status      VARCHAR(10)   NOT NULL CHECK (status IN ('active', 'dormant', 'barred')),
  newsletter  BOOLEAN       NOT NULL,
  joined_at   TIMESTAMP     NOT NULL,
  seen_at     TIMESTAMP,                 -- NULL: never came back
  points      INTEGER       NOT NULL CHECK (points >= 0),
  CHECK (seen_at > joined_at)
);

CREATE TABLE bookings (                  -- passenger, booking, ticket: one family
  id           INTEGER      PRIMARY KEY,
  reference    CHAR(8)      NOT NULL UNIQUE,
  passenger_id INTEGER      NOT NULL REFERENCES passengers (id) ON DELETE CASCADE,
  sailing_id   INTEGER      NOT NULL REFERENCES sailings (id),
  booked_at    TIMESTAMP    NOT NULL,
  status       VARCHAR(10)  NOT NULL CHECK (status IN ('open', 'cancelled')),
  total        DECIMAL(8,2) NOT NULL CHECK (total >= 0)
);

CREATE TABLE tickets (
  id              INTEGER      PRIMARY KEY,
  booking_id      INTEGER      NOT NULL REFERENCES bookings (id) ON DELETE CASCADE,
  position        INTEGER      NOT NULL CHECK (position > 0),
  traveller       VARCHAR(80)  NOT NULL,
  fare_class_code VARCHAR(8)   NOT NULL REFERENCES fare_classes (code),
  price           DECIMAL(8,2) NOT NULL,
  UNIQUE (booking_id, position)
);

CREATE TABLE refunds (                   -- one for each cancelled booking
  booking_id  INTEGER       PRIMARY KEY REFERENCES bookings (id),
  amount      DECIMAL(8,2)  NOT NULL CHECK (amount >= 0),
  refunded_at TIMESTAMP     NOT NULL
);

CREATE TABLE holiday_timetable (         -- replaced as a whole, every season
  id          INTEGER       PRIMARY KEY,
  pier_id     INTEGER       NOT NULL REFERENCES piers (id),
  day         DATE          NOT NULL,
  leaves_at   TIME          NOT NULL,
  UNIQUE (pier_id, day, leaves_at)
);
