-- What material from outside taught, each as the smallest SQL that shows it. All of it
-- comes back, as one database.
ALTER DATABASE outside SET search_path = freight, public;
CREATE SCHEMA freight;
SET search_path = freight, public;

-- What the server itself describes as NULL.
CREATE EXTENSION postgres_fdw;
CREATE SERVER bare FOREIGN DATA WRAPPER postgres_fdw;
CREATE USER MAPPING FOR CURRENT_USER SERVER bare OPTIONS (user 'x', password_required 'false');

-- Routines that differ in more than what comes in.
CREATE PROCEDURE load(a int, OUT b int) LANGUAGE plpgsql AS 'BEGIN b := a; END';
CREATE PROCEDURE load(OUT a text, b text) LANGUAGE plpgsql AS 'BEGIN END';
CREATE PROCEDURE load(a int, b text) LANGUAGE plpgsql AS 'BEGIN END';
COMMENT ON PROCEDURE load(int, text) IS 'two in';
GRANT EXECUTE ON PROCEDURE load(a int, OUT b int) TO deckhand;

-- Large objects that are all empty.
SELECT lo_create(4242), lo_create(4243);

-- Bodies that need a key, or themselves.
CREATE TABLE berth (id int PRIMARY KEY, a text, b int);
CREATE FUNCTION grouped() RETURNS SETOF record LANGUAGE sql BEGIN ATOMIC SELECT id, a, count(*) FROM berth GROUP BY id; END;
CREATE FUNCTION upsert() RETURNS void LANGUAGE sql
    BEGIN ATOMIC INSERT INTO berth VALUES (1, 'x', 2) ON CONFLICT ON CONSTRAINT berth_pkey DO NOTHING; END;
CREATE FUNCTION fact(n int) RETURNS int LANGUAGE sql AS 'SELECT 1';
CREATE OR REPLACE FUNCTION fact(n int) RETURNS int LANGUAGE sql
    BEGIN ATOMIC SELECT CASE WHEN n < 2 THEN 1 ELSE n * fact(n - 1) END; END;

-- Foreign keys to a partitioned table, whose copies the server names by itself.
CREATE TABLE quay (id int PRIMARY KEY) PARTITION BY RANGE (id);
CREATE TABLE moored (x int);
ALTER TABLE moored ADD FOREIGN KEY (x) REFERENCES quay;
ALTER TABLE moored ADD FOREIGN KEY (x) REFERENCES quay;
CREATE TABLE quay_1 PARTITION OF quay FOR VALUES FROM (0) TO (100);
CREATE TABLE quay_2 PARTITION OF quay FOR VALUES FROM (100) TO (200);
INSERT INTO quay VALUES (1);
INSERT INTO moored VALUES (1);

-- Who granted it may not use the schema any more.
CREATE SCHEMA galley;
GRANT USAGE ON SCHEMA galley TO cook;
CREATE TABLE galley.pan (id int);
GRANT SELECT ON galley.pan TO cook WITH GRANT OPTION;
SET ROLE cook;
GRANT SELECT ON galley.pan TO deckhand;
RESET ROLE;
REVOKE USAGE ON SCHEMA galley FROM cook;

-- Schemas named like our own helpers, and a table that takes one to be made.
CREATE SCHEMA grainkeep_helper;
CREATE TABLE grainkeep_helper.t AS SELECT 1 AS id;
CREATE SCHEMA grainkeep_scratch;
CREATE TABLE grainkeep_scratch.mark AS SELECT 2 AS id;
CREATE TABLE elder (x int, y int);
CREATE TABLE younger (y int, z int) INHERITS (elder);

-- Functions that rely on the search path, where a row is loaded or a rule is made.
CREATE FUNCTION bare(t text) RETURNS text IMMUTABLE LANGUAGE plpgsql AS 'BEGIN RETURN stripped(t); END';
CREATE FUNCTION stripped(t text) RETURNS text IMMUTABLE LANGUAGE sql AS 'SELECT lower(t)';
CREATE FUNCTION half(n int) RETURNS int IMMUTABLE LANGUAGE plpgsql AS 'BEGIN RETURN whole(n) / 2; END';
CREATE FUNCTION whole(n int) RETURNS int IMMUTABLE LANGUAGE sql AS 'SELECT n';
CREATE TABLE by_path (n text CHECK (bare(n) <> 'x'), g text GENERATED ALWAYS AS (bare(n)) STORED);
INSERT INTO by_path VALUES ('A'), ('b');
CREATE TABLE parted (n int) PARTITION BY RANGE (half(n));
CREATE TABLE parted_1 PARTITION OF parted FOR VALUES FROM (0) TO (10);
INSERT INTO parted VALUES (1), (5);

-- Views that a server writes in its own way only when it reads them again.
CREATE TABLE tide (at timestamp);
CREATE VIEW years AS SELECT extract('YEAR' FROM at) AS y, extract(month FROM at) AS m FROM tide;

-- A valid check that is inherited beside the same one that was never tested.
CREATE TABLE old_book (x int);
CREATE TABLE new_book () INHERITS (old_book);
INSERT INTO old_book VALUES (-1);
ALTER TABLE ONLY new_book ADD CONSTRAINT pos CHECK (x > 0);
ALTER TABLE old_book ADD CONSTRAINT pos CHECK (x > 0) NOT VALID;

-- Triggers that somebody told to be silent: on a table and its partition, of a foreign key.
CREATE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END';
CREATE TABLE log (id int) PARTITION BY RANGE (id);
CREATE TABLE log_1 PARTITION OF log FOR VALUES FROM (0) TO (10);
CREATE TABLE log_2 PARTITION OF log FOR VALUES FROM (10) TO (20);
CREATE TRIGGER tr AFTER INSERT ON log FOR EACH ROW EXECUTE FUNCTION noted();
ALTER TABLE log DISABLE TRIGGER tr;
ALTER TABLE log_1 DISABLE TRIGGER tr;
ALTER TABLE log_2 ENABLE ALWAYS TRIGGER tr;
CREATE TABLE guest (b int REFERENCES berth);
ALTER TABLE guest DISABLE TRIGGER ALL;

-- Options and members that hang on something else.
CREATE TABLE toasted (x text) WITH (toast.autovacuum_enabled = false, toast.autovacuum_vacuum_threshold = 77, fillfactor = 80);
CREATE FUNCTION cmp(int, text) RETURNS int IMMUTABLE LANGUAGE sql AS 'SELECT 0';
CREATE FUNCTION eq(int, text) RETURNS bool IMMUTABLE LANGUAGE sql AS 'SELECT $1::text = $2';
CREATE OPERATOR === (LEFTARG = int, RIGHTARG = text, FUNCTION = eq);
ALTER OPERATOR FAMILY integer_ops USING btree ADD OPERATOR 3 === (int, text), FUNCTION 1 (int, text) cmp(int, text);
CREATE UNLOGGED TABLE draft (id int GENERATED ALWAYS AS IDENTITY, v int);
ALTER SEQUENCE draft_id_seq SET LOGGED;

-- What somebody changed about an extension's own.
CREATE EXTENSION pg_trgm;
COMMENT ON FUNCTION similarity(text, text) IS 'ours';
CREATE EXTENSION unaccent;
ALTER TEXT SEARCH DICTIONARY unaccent (rules = 'unaccent');
COMMENT ON TEXT SEARCH DICTIONARY unaccent IS 'ours';

-- A materialised view that reads another through a function.
CREATE MATERIALIZED VIEW m_first AS SELECT * FROM quay;
CREATE FUNCTION counted() RETURNS bigint LANGUAGE plpgsql STABLE AS 'BEGIN RETURN (SELECT count(*) FROM freight.m_first); END';
CREATE MATERIALIZED VIEW a_second AS SELECT counted() AS n;
CREATE MATERIALIZED VIEW z_second AS SELECT counted() AS n;
