PRAGMA journal_mode = WAL;
CREATE TABLE shipper (id INTEGER PRIMARY KEY, name TEXT NOT NULL, credit_limit REAL);
CREATE TABLE consignment (id INTEGER PRIMARY KEY, shipper_id INTEGER NOT NULL REFERENCES shipper(id), loaded_on TEXT NOT NULL, hazard TEXT);
CREATE TABLE item (id INTEGER PRIMARY KEY, consignment_id INTEGER NOT NULL REFERENCES consignment(id), description TEXT NOT NULL, weight_kg REAL NOT NULL, volume_m3 REAL);
CREATE TABLE seal_scan (item_id INTEGER NOT NULL UNIQUE REFERENCES item(id), image BLOB NOT NULL);
CREATE VIRTUAL TABLE item_search USING fts5(description, content='item', content_rowid='id');
