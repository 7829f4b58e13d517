CREATE TABLE crew (id integer PRIMARY KEY, name text NOT NULL, rank text NOT NULL, joined_on date NOT NULL, certificate bytea);
CREATE TABLE shift (id bigint PRIMARY KEY, crew_id integer NOT NULL REFERENCES crew, starts_at timestamp NOT NULL, hours double precision NOT NULL, remark text);
CREATE TABLE setting (name text PRIMARY KEY, value text);
