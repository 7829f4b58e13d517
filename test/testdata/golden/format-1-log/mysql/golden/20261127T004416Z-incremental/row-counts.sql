SELECT concat('`berth`', '|', count(*)) FROM `berth`;
