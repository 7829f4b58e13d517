-- Every kind of object that a MariaDB database can hold, and what makes each odd.
CREATE SEQUENCE ticket START 7 INCREMENT 3 MAXVALUE 100000 CACHE 5 CYCLE; SELECT nextval(ticket); CREATE SEQUENCE `odd ``seq` INCREMENT -1;
CREATE TABLE port (code char(3) CHARACTER SET ascii PRIMARY KEY, name varchar(60) NOT NULL, at point NOT NULL, SPATIAL KEY (at), FULLTEXT KEY words (name), UNIQUE KEY by_name (name(20)) COMMENT 'it''s') COMMENT 'it''s, a `port`\n(line)' ROW_FORMAT=COMPRESSED KEY_BLOCK_SIZE=8;
CREATE TABLE `Odd "Name` (`a b` int AUTO_INCREMENT, `c``d` varchar(9) DEFAULT 'x\\''y', `e)` text DEFAULT ('f),('), `n` int DEFAULT nextval(ticket), KEY (`a b`), KEY `k``2` (`c``d` DESC, n)) AUTO_INCREMENT=40;
INSERT INTO `Odd "Name` (`c``d`, `e)`) VALUES ('a''b', 'c\r\nd\te\0f\Zg\\'), (NULL, ''), ('é', 'bell \a\b'), (DEFAULT, DEFAULT);
CREATE TABLE made (id int PRIMARY KEY, price decimal(10,2) CHECK (price >= 0 AND price <> 13), v int AS (id * 2) VIRTUAL, s varchar(20) AS (concat('n,(', id)) STORED, hidden int INVISIBLE DEFAULT 5, KEY (v), CONSTRAINT `both ways` CHECK (id < 1000 OR price > 1));
INSERT INTO made (id, price, hidden) VALUES (1, 2.50, 9), (2, NULL, DEFAULT);
CREATE TABLE parent (id int PRIMARY KEY, other int); CREATE TABLE child (id int PRIMARY KEY, p int, CONSTRAINT to_parent FOREIGN KEY (p) REFERENCES parent (id) ON DELETE CASCADE ON UPDATE SET NULL);
ALTER TABLE parent ADD CONSTRAINT circle FOREIGN KEY (other) REFERENCES child (id); SET foreign_key_checks = 0; INSERT INTO parent VALUES (1, 10), (2, NULL); INSERT INTO child VALUES (10, 1), (11, 2), (12, NULL); SET foreign_key_checks = 1;
CREATE TABLE self (a int, b int, up_a int, up_b int, PRIMARY KEY (a, b), FOREIGN KEY (up_a, up_b) REFERENCES self (a, b)); INSERT INTO self VALUES (1, 1, NULL, NULL), (1, 2, 1, 1), (1, 3, NULL, 7);
CREATE TABLE parted (id int NOT NULL, d date NOT NULL, PRIMARY KEY (id, d)) PARTITION BY RANGE (to_days(d)) SUBPARTITION BY HASH (id) SUBPARTITIONS 2 (PARTITION old VALUES LESS THAN (to_days('2026-01-01')) COMMENT = 'a, b', PARTITION rest VALUES LESS THAN MAXVALUE);
INSERT INTO parted VALUES (1, '2025-05-05'), (2, '2026-06-06'); CREATE TABLE listed (k varchar(9) CHARACTER SET latin1 NOT NULL) PARTITION BY LIST COLUMNS (k) (PARTITION a VALUES IN ('é', 'b'), PARTITION z DEFAULT); INSERT INTO listed VALUES ('é'), ('q');
CREATE TABLE past (id int PRIMARY KEY, fee int, gone int WITHOUT SYSTEM VERSIONING) WITH SYSTEM VERSIONING; INSERT INTO past VALUES (1, 10, 0), (2, 20, 0); UPDATE past SET fee = fee + 1; DELETE FROM past WHERE id = 2;
CREATE TABLE past2 (id int PRIMARY KEY, since timestamp(6) GENERATED ALWAYS AS ROW START, till timestamp(6) GENERATED ALWAYS AS ROW END, PERIOD FOR SYSTEM_TIME (since, till)) WITH SYSTEM VERSIONING; INSERT INTO past2 (id) VALUES (1); UPDATE past2 SET id = 5;
CREATE TABLE rate (id int, valid_from date, valid_to date, PERIOD FOR valid (valid_from, valid_to), UNIQUE KEY (id, valid WITHOUT OVERLAPS)); INSERT INTO rate VALUES (1, '2026-01-01', '2026-02-01'), (1, '2026-02-01', '2026-03-01');
CREATE TABLE `values` (id int unsigned PRIMARY KEY, f float, f2 float(7,3), d double, m decimal(38,20), b bit(9), bi bigint unsigned, z int(6) zerofill, y year, bin binary(4), vb varbinary(9), bl longblob, g geometry, p polygon, j json, tm time(3), dt datetime(6), ts timestamp(3) NULL, da date, e enum('', 'b', 'c,d', 'é') CHARACTER SET latin1, e2 enum('x', 'it''s'), s set('m', 'n', 'o'), l1 varchar(20) CHARACTER SET latin1, u16 varchar(20) CHARACTER SET utf16, gb varchar(20) CHARACTER SET gbk, sj varchar(20) CHARACTER SET sjis, u4 varchar(20) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin, i4 inet4, i6 inet6, u uuid);
SET sql_mode = 'ALLOW_INVALID_DATES', time_zone = '+00:00';
INSERT INTO `values` VALUES (0, 1.2345678, 1234.567, 0.1, 123456789012345678.12345678901234567890, b'111111110', 18446744073709551615, 42, 0, 'ab', x'00ff', x'0d0a001a27', ST_GeomFromText('POINT(1.5 -2)', 4326), ST_GeomFromText('POLYGON((0 0,1 0,1 1,0 0))'), '{"a": "\\u00e9\\n", "b": [1, null]}', '-838:59:59.000', '0000-00-00 00:00:00', '2038-01-19 03:14:07.999', '2026-02-31', '', 'x', '', x'e981ff00', '𝄞é', x'b0a1', x'835c', 'tab\t\'"', '10.0.0.1', '::ffff:1', '00112233-4455-6677-8899-aabbccddeeff'),
 (1, -3.4028235e38, 0, -1.7976931348623157e308, -0.1, 0, 0, 999999, 2155, '', '', '', NULL, NULL, '[]', '800:00:00.5', '9999-12-31 23:59:59.999999', '1970-01-01 00:00:01', '0000-00-00', 'é', 'nothing', 'm,o', 'plain', '', '', '', '', '0.0.0.0', '::', 'ffffffff-ffff-ffff-ffff-ffffffffffff'),
 (2, 1e-45, -0.001, 4.9e-324, 0, NULL, NULL, NULL, NULL, NULL, NULL, NULL, ST_GeomFromText('GEOMETRYCOLLECTION(POINT(1 1),LINESTRING(0 0,1 1))', 0), NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL),
 (4294967295, 16777216, 1, -0.0, 1, b'1', 1, 1, 1999, 'zzzz', x'5c', 'text', NULL, NULL, '"x"', '00:00:00', '2026-03-29 02:30:00', '2026-03-29 01:30:00', '1999-12-31', 'c,d', 'it''s', 'n', '', 'x', 'y', 'z', 'w', '1.2.3.4', '1::2', '00000000-0000-0000-0000-000000000001');
UPDATE `values` SET e = 99 WHERE id = 4294967295; INSERT IGNORE INTO `values` (id, e2) VALUES (7, 0);
SET sql_mode = DEFAULT, time_zone = DEFAULT; CREATE TABLE old_style (id int PRIMARY KEY, t text, KEY (t(5))) ENGINE=MyISAM CHECKSUM=1; INSERT INTO old_style VALUES (1, 'm'); CREATE TABLE crash_safe (id int) ENGINE=Aria TRANSACTIONAL=1; INSERT INTO crash_safe VALUES (1); CREATE TABLE quick (id int PRIMARY KEY) ENGINE=MEMORY; INSERT INTO quick VALUES (1); CREATE TABLE nothing_in (a int);
CREATE TABLE only_made (id int AS (5) VIRTUAL, a int); INSERT INTO only_made (a) VALUES (1), (2);
DELIMITER //
CREATE FUNCTION twice(n int) RETURNS int DETERMINISTIC COMMENT 'it''s' RETURN n * 2//
CREATE PROCEDURE `pay ``all`(IN a int, OUT b varchar(9) CHARACTER SET latin1) SQL SECURITY INVOKER BEGIN DECLARE x int; SELECT count(*) INTO x FROM parent; SET b = 'a;b//c'; END//
SET sql_mode = 'ORACLE'//
CREATE PACKAGE fares AS FUNCTION base RETURN int; END//
CREATE PACKAGE BODY fares AS FUNCTION base RETURN int AS BEGIN RETURN 5; END; END//
SET sql_mode = 'ANSI_QUOTES', collation_connection = 'latin1_german2_ci'//
CREATE TRIGGER first BEFORE INSERT ON child FOR EACH ROW BEGIN SET NEW.id = NEW.id + 0; END//
CREATE TRIGGER second BEFORE INSERT ON child FOR EACH ROW PRECEDES first SET NEW.p = coalesce(NEW.p, 1)//
SET sql_mode = DEFAULT, collation_connection = DEFAULT//
CREATE EVENT tidy ON SCHEDULE EVERY 2 HOUR STARTS '2030-01-01 00:00:00' ENDS '2031-01-01 00:00:00' ON COMPLETION PRESERVE DISABLE COMMENT 'it''s' DO BEGIN DELETE FROM nothing_in; END//
DELIMITER ;
CREATE VIEW z_base AS SELECT id, twice(id) AS t FROM parent; CREATE ALGORITHM=MERGE SQL SECURITY INVOKER VIEW a_top AS SELECT id FROM z_base WHERE id > 0 WITH LOCAL CHECK OPTION; CREATE ALGORITHM=TEMPTABLE VIEW m_mid (`x y`) AS SELECT 'it''s `z_base`' FROM a_top;
