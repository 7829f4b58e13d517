SELECT concat('`berth`', '|', count(*)) FROM `berth`;
SELECT concat('`boat`', '|', count(*)) FROM `boat`;
