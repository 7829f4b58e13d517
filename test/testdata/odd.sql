CREATE SCHEMA "Odd Schema";
CREATE TABLE "Odd Schema"."T ""q"" 
line" ("a b" int, "c""d" text, e text DEFAULT 'x\y''z', f text DEFAULT E'n\n');
INSERT INTO "Odd Schema"."T ""q"" 
line" VALUES (1, E'tab\tnl\nbs\\ cr\r', NULL, ''), (2, '\.', '\N', E'\u00e9\u3042');
CREATE TABLE no_columns (); INSERT INTO no_columns DEFAULT VALUES; INSERT INTO no_columns DEFAULT VALUES;
CREATE TABLE only_generated (g int GENERATED ALWAYS AS (3) STORED); INSERT INTO only_generated DEFAULT VALUES;
CREATE TABLE vals (i int, f4 float4, f8 float8, n numeric, d date, ts timestamptz, iv interval, b bytea, j jsonb, a int[], m money, bo bool, u uuid, ip inet, x text[]);
INSERT INTO vals VALUES (1, 1.1, 0.1 + 0.2::float8, 'NaN', '0044-03-15 BC', 'infinity', '1 mon -3 days 04:05:06.789', '\x00ff0a5c', '{"a":[1,null]}', '[2:3]={7,8}', 12.34,
    true, 'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11', '10.0.0.1/8', ARRAY['a,b', '"q"', NULL, '']),
    (2, '-0', '-Infinity', 1e-300, 'infinity', '2026-03-29 02:30:00+01', '-1 year', '', 'null', '{}', -0.01, false, NULL, '::1', '{}');
ALTER TABLE vals ALTER f8 SET STATISTICS 400, ALTER b SET STORAGE EXTERNAL, SET (fillfactor = 70), REPLICA IDENTITY FULL;
ALTER TABLE vals ADD gone int; ALTER TABLE vals DROP gone; ALTER TABLE vals ADD after_gone text COLLATE "C" DEFAULT 'late' NOT NULL;
CREATE UNLOGGED TABLE unlogged (id int PRIMARY KEY, EXCLUDE USING btree (id WITH =));
CREATE TYPE "Mood" AS ENUM ('calm', 'it''s rough', 'a\b');
CREATE DOMAIN positive AS numeric(8,2) DEFAULT 1.5 NOT NULL CHECK (VALUE > 0) CHECK (VALUE < 1000);
CREATE TABLE typed (id int GENERATED ALWAYS AS IDENTITY (START 100 INCREMENT -5 MINVALUE -1000 MAXVALUE 100 CACHE 3 CYCLE), mood "Mood" DEFAULT 'calm', moods "Mood"[], price positive,
    v varchar(10) CHECK (v IN ('a', 'b')), UNIQUE (mood, price) DEFERRABLE INITIALLY DEFERRED, CONSTRAINT "odd check" CHECK (id < 5000) NO INHERIT);
INSERT INTO typed(moods, price, v) VALUES ('{calm,"it''s rough"}', 3, 'a'), (NULL, 4, NULL);
ALTER TABLE typed ADD CONSTRAINT not_tested CHECK (price > 100) NOT VALID;
CREATE SEQUENCE "Odd Schema".lonely AS smallint START 7 CACHE 5; SELECT nextval('"Odd Schema".lonely');
CREATE SEQUENCE untouched START 42;
CREATE TABLE parent (id int PRIMARY KEY, UNIQUE (id) INCLUDE (id)); CREATE TABLE child (p int REFERENCES parent ON UPDATE CASCADE ON DELETE SET NULL, q int);
INSERT INTO parent VALUES (1); INSERT INTO child VALUES (1, 2);
ALTER TABLE parent ADD other int; ALTER TABLE child ADD PRIMARY KEY (q); ALTER TABLE parent ADD FOREIGN KEY (other) REFERENCES child(q);
CREATE INDEX by_lower ON "Odd Schema"."T ""q"" 
line" (lower("c""d") text_pattern_ops DESC NULLS LAST, ("a b" + 1)) WHERE e IS NULL;
CREATE UNIQUE INDEX one_calm ON typed (mood) WHERE mood = 'it''s rough'; CREATE INDEX cover ON vals USING gin (j); CLUSTER child USING child_pkey;
CREATE TABLE row_type (id int); CREATE FUNCTION of_row(row_type) RETURNS int LANGUAGE sql AS 'SELECT 5';
ALTER TABLE row_type ADD z int; ALTER TABLE row_type ALTER z SET DEFAULT of_row(NULL::row_type); INSERT INTO row_type(id) VALUES (1);
CREATE VIEW first AS SELECT i, f8 AS "odd col" FROM vals; CREATE VIEW second WITH (security_barrier) AS SELECT * FROM first WHERE i > 0 WITH LOCAL CHECK OPTION;
ALTER VIEW first ALTER i SET DEFAULT 9;
CREATE FUNCTION uses_view() RETURNS SETOF second LANGUAGE sql STABLE AS 'SELECT * FROM public.second';
CREATE FUNCTION modern(a int, VARIADIC b text[] DEFAULT '{}') RETURNS TABLE (x int, y text) LANGUAGE sql IMMUTABLE STRICT PARALLEL SAFE COST 7 ROWS 3 SET work_mem = '1MB' BEGIN ATOMIC SELECT a, b[1]; END;
CREATE PROCEDURE do_it(INOUT n int) LANGUAGE plpgsql AS $$ BEGIN n := n + 1; /* $function$ */ COMMIT; END $$;
CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN new; END';
CREATE TRIGGER "odd trigger" AFTER INSERT ON child REFERENCING NEW TABLE AS fresh FOR EACH STATEMENT EXECUTE FUNCTION note('x', 'it''s');
ALTER TABLE child DISABLE TRIGGER "odd trigger"; CREATE CONSTRAINT TRIGGER checked AFTER DELETE ON child DEFERRABLE FOR EACH ROW WHEN (old.q > 3) EXECUTE FUNCTION note();
CREATE TRIGGER into_view INSTEAD OF INSERT ON second FOR EACH ROW EXECUTE FUNCTION note();
COMMENT ON DATABASE odd IS 'it''s odd \ here'; COMMENT ON SCHEMA public IS 'ours'; COMMENT ON FUNCTION of_row(row_type) IS 'of a row'; COMMENT ON DOMAIN positive IS 'more than none';
COMMENT ON COLUMN "Odd Schema"."T ""q"" 
line"."c""d" IS E'two\nlines'; COMMENT ON TRIGGER checked ON child IS 't'; COMMENT ON CONSTRAINT not_tested ON typed IS 'c'; COMMENT ON INDEX cover IS 'i';
COMMENT ON CONSTRAINT positive_check ON DOMAIN positive IS 'dc'; COMMENT ON COLUMN first.i IS 'vc'; COMMENT ON PROCEDURE do_it(int) IS 'p';
CREATE ROLE "Deck Hand"; CREATE ROLE purser; CREATE ROLE mate;
ALTER SCHEMA "Odd Schema" OWNER TO purser; ALTER TABLE vals OWNER TO mate; ALTER FUNCTION note() OWNER TO purser; ALTER TYPE "Mood" OWNER TO mate; ALTER SEQUENCE untouched OWNER TO mate;
GRANT SELECT ON vals TO purser WITH GRANT OPTION; GRANT SELECT (i, f4), UPDATE (d) ON vals TO "Deck Hand"; REVOKE ALL ON SCHEMA public FROM PUBLIC; GRANT USAGE ON SCHEMA public TO purser;
SET ROLE purser; GRANT SELECT ON vals TO "Deck Hand"; RESET ROLE; REVOKE EXECUTE ON FUNCTION of_row(row_type) FROM PUBLIC; GRANT USAGE ON SEQUENCE untouched TO purser; REVOKE ALL ON TYPE "Mood" FROM PUBLIC;
