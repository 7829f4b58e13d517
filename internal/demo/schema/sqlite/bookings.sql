PRAGMA application_id = 1414745683;
PRAGMA user_version = 12;
CREATE TABLE port (code TEXT PRIMARY KEY, name TEXT NOT NULL COLLATE NOCASE, latitude REAL, longitude REAL) WITHOUT ROWID;
CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, built INTEGER, length_m REAL, retired_on TEXT);
CREATE TABLE cabin (vessel_id INTEGER NOT NULL REFERENCES vessel(id), number INTEGER NOT NULL,
    class TEXT NOT NULL CHECK (class IN ('inside', 'outside', 'suite')), berths INTEGER NOT NULL, PRIMARY KEY (vessel_id, number)) WITHOUT ROWID;
CREATE TABLE passenger (id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL, email TEXT, phone TEXT, born TEXT, note TEXT);
CREATE TABLE sailing (id INTEGER PRIMARY KEY, vessel_id INTEGER NOT NULL REFERENCES vessel(id), from_port TEXT NOT NULL REFERENCES port(code),
    to_port TEXT NOT NULL REFERENCES port(code), departs TEXT NOT NULL, delay_min INTEGER, status TEXT NOT NULL DEFAULT 'planned');
CREATE TABLE booking (id INTEGER PRIMARY KEY, reference TEXT NOT NULL UNIQUE, sailing_id INTEGER NOT NULL REFERENCES sailing(id),
    passenger_id INTEGER NOT NULL REFERENCES passenger(id), made_at TEXT NOT NULL, seats INTEGER NOT NULL DEFAULT 1, price INTEGER NOT NULL,
    vehicle TEXT, price_per_seat REAL GENERATED ALWAYS AS (price * 1.0 / seats) VIRTUAL);
CREATE TABLE account (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE posting (id INTEGER PRIMARY KEY, booking_id INTEGER REFERENCES booking(id), account_id INTEGER NOT NULL REFERENCES account(id), amount INTEGER NOT NULL);
