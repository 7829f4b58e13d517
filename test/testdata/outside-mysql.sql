-- What material from outside taught, each as the smallest SQL that shows it, for both products. Lines that only one
-- understands say so at their end.
CREATE TABLE lookalike (id int PRIMARY KEY, v varchar(10) COMMENT 'was GENERATED ALWAYS AS (x)', w varchar(40) DEFAULT 'x GENERATED ALWAYS AS ROW y', `a```` b` int, `AUTO_INCREMENT (` int DEFAULT 3) COMMENT='x WITH SYSTEM VERSIONING';
INSERT INTO lookalike VALUES (1, 'a', 'b', 5, 6);
CREATE TABLE `TABLESPACE ``x`` AUTOEXTEND_SIZE=4M (` (`TABLESPACE` int PRIMARY KEY) COMMENT 'AUTOEXTEND_SIZE=4M TABLESPACE `x`';
SET foreign_key_checks = 0;
CREATE TABLE mesh_1 (id int PRIMARY KEY, b int, c int, FOREIGN KEY (b) REFERENCES mesh_2 (id), FOREIGN KEY (c) REFERENCES mesh_3 (id));
CREATE TABLE mesh_2 (id int PRIMARY KEY, b int, c int, FOREIGN KEY (b) REFERENCES mesh_3 (id), FOREIGN KEY (c) REFERENCES mesh_1 (id));
CREATE TABLE mesh_3 (id int PRIMARY KEY, b int, c int, FOREIGN KEY (b) REFERENCES mesh_4 (id), FOREIGN KEY (c) REFERENCES mesh_1 (id));
CREATE TABLE mesh_4 (id int PRIMARY KEY, b int, c int, FOREIGN KEY (b) REFERENCES mesh_2 (id), FOREIGN KEY (c) REFERENCES mesh_1 (id));
SET foreign_key_checks = 1;
SET restrict_fk_on_non_standard_key = OFF; -- mysql
CREATE TABLE many (id int, KEY (id));
CREATE TABLE to_many (id int, FOREIGN KEY (id) REFERENCES many (id));
INSERT INTO many VALUES (1), (1);
INSERT INTO to_many VALUES (1);
CREATE TABLE t (id int PRIMARY KEY);
CREATE VIEW beside AS SELECT t.id, i.schema_name FROM t JOIN information_schema.schemata i;
CREATE VIEW upon AS SELECT * FROM beside;
CREATE TABLE m1 (id int) ENGINE=MyISAM;
CREATE TABLE m2 (id int) ENGINE=MyISAM;
INSERT INTO m1 VALUES (1);
INSERT INTO m2 VALUES (2);
CREATE TABLE a_union (id int) ENGINE=MERGE UNION=(m1, m2) INSERT_METHOD=LAST;
CREATE TABLE collated (a varchar(10), b varchar(10) COLLATE utf8mb4_unicode_ci, j json DEFAULT NULL, k json) COLLATE utf8mb4_unicode_ci;
INSERT INTO collated VALUES ('x', 'y', NULL, '[]');
CREATE TABLE by_text (k varchar(50) CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci PRIMARY KEY, l varchar(9) CHARACTER SET latin1 COLLATE latin1_german2_ci, v longblob);
INSERT INTO by_text VALUES ('é', 'ü', repeat('x', 5000000)), ('b', 'c', 'y');
SET sql_generate_invisible_primary_key = ON; -- mysql
CREATE TABLE keyed_by_server (a int); -- mysql
INSERT INTO keyed_by_server VALUES (5), (6); -- mysql
SET sql_generate_invisible_primary_key = OFF; -- mysql
CREATE TABLE keyless (a int);
INSERT INTO keyless VALUES (5), (5);
CREATE TABLE texts (a varchar(10) CHARACTER SET latin1, b varchar(20) CHARACTER SET latin1 GENERATED ALWAYS AS (concat(a, _latin1 x'e9')) STORED, c varchar(10) DEFAULT (_latin1 x'e9'), CHECK (a <> _latin1 x'fc')); -- mysql
INSERT INTO texts (a) VALUES ('x'); -- mysql
CREATE LIBRARY code LANGUAGE JAVASCRIPT AS 'export function f() { return 1; }'; -- mysql
CREATE TABLE functional (a int, b int, KEY k ((a + b)), v int INVISIBLE, CHECK (a > 0) NOT ENFORCED); -- mysql
INSERT INTO functional (a, b, v) VALUES (1, 2, 3); -- mysql
CREATE TABLE mapped (id int PRIMARY KEY, g point NOT NULL SRID 4326, SPATIAL INDEX (g)); -- mysql
INSERT INTO mapped VALUES (1, ST_GeomFromText('POINT(10 20)', 4326)); -- mysql
CREATE TABLE valued (id int PRIMARY KEY, j json, KEY z ((CAST(j->'$.z' AS UNSIGNED ARRAY)))); -- mysql
INSERT INTO valued VALUES (1, '{"z": [1,2]}'); -- mysql
CREATE SEQUENCE berths; -- mariadb
CREATE TABLE two_numbers (a int DEFAULT nextval(berths), b int DEFAULT (nextval(berths) + 1), c int); -- mariadb
CREATE VIEW numbered AS SELECT lastval(berths) AS n; -- mariadb
CREATE PROCEDURE said() SELECT 'DELIMITER //', 'it''s';
SET character_set_client = latin1;
CREATE VIEW by_client AS SELECT 'x' AS c;
CREATE PROCEDURE by_client() SELECT 'x';
SET character_set_client = utf8mb4;
