SET NAMES utf8mb4;
SET sql_mode = 'STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
SET time_zone = '+00:00';
SET foreign_key_checks = 0, unique_checks = 0;
SET sql_quote_show_create = 1, autocommit = 1;
SET group_concat_max_len = 1000000;
SET @rows_without_parent = (SELECT IF(EXISTS (SELECT 1 FROM `sailing` c WHERE c.`vessel_id` IS NOT NULL AND NOT EXISTS (SELECT 1 FROM `vessel` p WHERE p.`id` = c.`vessel_id`)), (SELECT 1 UNION SELECT 2), 0));
ALTER TABLE `sailing` ADD CONSTRAINT `sailing_ibfk_1` FOREIGN KEY (`vessel_id`) REFERENCES `vessel` (`id`);
