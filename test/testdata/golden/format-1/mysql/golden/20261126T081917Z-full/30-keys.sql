SET NAMES utf8mb4;
SET sql_mode = 'STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
SET time_zone = '+00:00';
SET foreign_key_checks = 0, unique_checks = 0;
SET sql_quote_show_create = 1, autocommit = 1;
SET group_concat_max_len = 1000000;
ALTER TABLE `sailing`
  ADD KEY `vessel_id` (`vessel_id`);
ALTER TABLE `vessel`
  ADD UNIQUE KEY `name` (`name`);
