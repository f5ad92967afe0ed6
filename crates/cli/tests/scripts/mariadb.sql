-- A script of another hand: settings in marked comments, keys added after the rows,
-- a stand-in for a view, definers that exist nowhere else.
/*!40101 SET @before = @@character_set_client */;
/*!40101 SET NAMES utf8mb4 */;
/*!40103 SET @zone_before = @@time_zone, time_zone = '+00:00' */;
/*!40014 SET @keys_before = @@foreign_key_checks, foreign_key_checks = 0 */;
SET sql_mode = "NO_AUTO_VALUE_ON_ZERO";
START TRANSACTION;

DROP TABLE IF EXISTS `gp_nights`;
CREATE TABLE `gp_nights` (
  `id` int(11) NOT NULL, -- counted, later
  `held` datetime NOT NULL DEFAULT current_timestamp(),
  `stamp` timestamp NULL DEFAULT NULL,
  `place` varchar(40) CHARACTER SET latin1 COLLATE latin1_german1_ci DEFAULT 'Kuppel; (nord)',
  `sky` enum('clear','bewölkt') DEFAULT NULL,
  `lot` bit(4) DEFAULT b'101',
  `raw` varbinary(20) DEFAULT NULL,
  `spot` point DEFAULT NULL,
  `page` varchar(60) GENERATED ALWAYS AS (concat('/night/', `id`)) VIRTUAL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci COMMENT='nights (all)';
INSERT INTO `gp_nights` (`id`, `held`, `stamp`, `place`, `sky`, `lot`, `raw`, `spot`) VALUES
(0, '2026-01-02 03:04:05', '2026-01-02 03:04:05', 'Größe; \'x\' \\ "y"', 'bewölkt', b'1010', 0x00FF10, 0x000000000101000000000000000000F03F0000000000000040),
(1, '0000-00-00 00:00:00', NULL, NULL, NULL, b'0', _binary 'a\0\'b', NULL);
INSERT INTO `gp_nights` (`id`, `held`, `stamp`, `place`, `sky`, `lot`, `raw`, `spot`) VALUES
(7, '2026-02-03 00:00:00', NULL, "in double quotes", 'clear', 5, '', NULL);

DROP TABLE IF EXISTS `gp_seen`;
CREATE TABLE IF NOT EXISTS `gp_seen` (
  `id` bigint(20) UNSIGNED NOT NULL,
  `night` int(11) NOT NULL REFERENCES `gp_nights` (`id`) ON DELETE CASCADE,
  `what` text DEFAULT NULL,
  `note` longtext DEFAULT NULL,
  `changed` timestamp NOT NULL DEFAULT current_timestamp() ON UPDATE current_timestamp(),
  KEY `note` (`note`(10))
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;
/*!40000 ALTER TABLE `gp_seen` DISABLE KEYS */;
INSERT INTO `gp_seen` VALUES (18446744073709551615,0,'M 31 -- # /* no comment */','a:1:{s:3:\"url\";s:31:\"http://glimmerpoint.example/m31\";}','2026-01-02 03:04:05'),(2,7,'🔭\r\n\ttabs','','2026-01-02 03:04:05');
/*!40000 ALTER TABLE `gp_seen` ENABLE KEYS */;

CREATE TABLE `gp_latest` (`id` int, `what` int);
INSERT INTO gp_nights (id, held, stamp, place, sky, lot, raw, spot) VALUES (9, '2026-03-04 00:00:00', NULL, 'after another table', 'clear', 1, NULL, NULL);

ALTER TABLE `gp_nights`
  ADD PRIMARY KEY (`id`),
  ADD KEY `held` (`held`,`sky`),
  ADD CONSTRAINT `in_order` CHECK (`lot` < 11);
ALTER TABLE `gp_seen`
  ADD PRIMARY KEY (`id`),
  ADD FULLTEXT KEY `words` (`what`),
  ADD COLUMN `weight` decimal(5,2) DEFAULT 1.50;
CREATE UNIQUE INDEX once ON gp_seen (night, id);
ALTER TABLE `gp_nights`
  MODIFY `id` int(11) NOT NULL AUTO_INCREMENT COMMENT 'counted, with a comma', AUTO_INCREMENT=42;
ALTER TABLE `gp_seen`
  ADD CONSTRAINT `of_night` FOREIGN KEY (`night`) REFERENCES `gp_nights` (`id`) ON DELETE CASCADE ON UPDATE CASCADE;

DROP TABLE IF EXISTS `gp_latest`;
/*!50001 CREATE ALGORITHM=UNDEFINED */
/*!50013 DEFINER=`nobody`@`old.example` SQL SECURITY DEFINER */
/*!50001 VIEW `gp_latest` AS select `gp_nights`.`id` AS `id`,`gp_seen`.`what` AS `what` from (`gp_nights` join `gp_seen` on(`gp_seen`.`night` = `gp_nights`.`id`)) */;

DELIMITER ;;
/*!50003 CREATE*/ /*!50017 DEFINER=`nobody`@`old.example`*/ /*!50003 TRIGGER `gp_stamp` BEFORE INSERT ON `gp_seen` FOR EACH ROW BEGIN
  SET NEW.note = concat(NEW.note, '; seen');
END */;;
CREATE DEFINER=`nobody`@`old.example` PROCEDURE `gp_count`(IN least INT)
BEGIN
  SELECT count(*) FROM gp_nights WHERE id > least;
END ;;
DELIMITER ;
CREATE DEFINER=nobody@localhost FUNCTION gp_twice(n int) RETURNS int DETERMINISTIC RETURN n * 2;
COMMIT;
/*!40103 SET time_zone = @zone_before */;
-- the end
