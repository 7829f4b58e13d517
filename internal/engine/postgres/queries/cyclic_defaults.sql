-- Defaults whose functions need the very table.
WITH RECURSIVE start AS (
    SELECT d.adrelid, d.adnum, x.refclassid, x.refobjid FROM pg_attrdef d
    JOIN pg_depend x ON x.classid = 'pg_attrdef'::regclass AND x.objid = d.oid
    WHERE x.refclassid = 'pg_proc'::regclass AND x.refobjid >= 16384),
    reach AS (
    SELECT * FROM start
    UNION SELECT r.adrelid, r.adnum, x.refclassid, x.refobjid FROM reach r
    JOIN pg_depend x ON x.classid = r.refclassid AND x.objid = r.refobjid AND x.deptype <> 'e'
        AND x.refobjid >= 16384)
SELECT DISTINCT
    r.adrelid AS oid,
    r.adnum AS num
FROM reach r
    LEFT JOIN pg_type t ON r.refclassid = 'pg_type'::regclass AND t.oid = r.refobjid
WHERE r.refclassid = 'pg_class'::regclass
    AND r.refobjid = r.adrelid OR t.typrelid = r.adrelid
