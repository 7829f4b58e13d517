SELECT concat('`log`', '|', count(*)) FROM `log`;
SELECT concat('`quay`', '|', count(*)) FROM `quay`;
SELECT concat('`sailing`', '|', count(*)) FROM `sailing`;
SELECT concat('`vessel`', '|', count(*)) FROM `vessel`;
