SET NAMES utf8mb4;
SET sql_mode = 'STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
SET time_zone = '+00:00';
SET foreign_key_checks = 0, unique_checks = 0;
SET sql_quote_show_create = 1, autocommit = 1;
SET group_concat_max_len = 1000000;
SET NAMES binary;
SET sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
INSERT INTO `vessel` (`id`, `name`, `deck`, `length`, `tag`, `seen`) VALUES
(1,'Tern\t"of" Skerry\\','upper',1.2345677614212036,x'00ff','2026-03-14 02:30:00.123456'),
(2,'Puffin – é','car',NULL,NULL,NULL);
