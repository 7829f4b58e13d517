SET NAMES utf8mb4;
SET sql_mode = 'STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
SET time_zone = '+00:00';
SET foreign_key_checks = 0, unique_checks = 0;
SET sql_quote_show_create = 1, autocommit = 1;
SET group_concat_max_len = 1000000;
CREATE TABLE `sailing` (
  `id` bigint(20) NOT NULL AUTO_INCREMENT,
  `vessel_id` int(11) DEFAULT NULL,
  `f` double DEFAULT NULL,
  PRIMARY KEY (`id`)
) ENGINE=InnoDB AUTO_INCREMENT=4 DEFAULT CHARSET=latin1 COLLATE=latin1_swedish_ci;
CREATE TABLE `vessel` (
  `id` int(11) NOT NULL,
  `name` varchar(80) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci NOT NULL,
  `deck` enum('car','upper') DEFAULT NULL,
  `length` float DEFAULT NULL,
  `tag` varbinary(8) DEFAULT NULL,
  `seen` datetime(6) DEFAULT NULL,
  PRIMARY KEY (`id`)
) ENGINE=InnoDB DEFAULT CHARSET=latin1 COLLATE=latin1_swedish_ci;
