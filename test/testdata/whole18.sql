-- What only servers of version 18 and later have.
CREATE TABLE strict (a int CONSTRAINT "must have" NOT NULL NO INHERIT, b int CONSTRAINT b_there NOT NULL, c int GENERATED ALWAYS AS (b * 2) VIRTUAL); INSERT INTO strict VALUES (1, 2, DEFAULT);
CREATE TABLE lax AS SELECT NULL::text AS d; ALTER TABLE lax ADD CONSTRAINT d_later NOT NULL d NOT VALID; COMMENT ON CONSTRAINT b_there ON strict IS 'why';
CREATE TABLE strict_child (b int CONSTRAINT own_b NOT NULL, e int) INHERITS (strict); ALTER TABLE strict_child ALTER a SET NOT NULL; ALTER TABLE strict ADD CHECK (b > 5) NOT ENFORCED;
CREATE TABLE stay (room int, during daterange, PRIMARY KEY (room, during WITHOUT OVERLAPS)); CREATE TABLE guest (room int, during daterange, FOREIGN KEY (room, PERIOD during) REFERENCES stay (room, PERIOD during)); INSERT INTO stay VALUES (1, '[2026-01-01,2026-02-01)'); INSERT INTO guest VALUES (1, '[2026-01-03,2026-01-05)');
CREATE DOMAIN sure AS int CONSTRAINT surely NOT NULL;
