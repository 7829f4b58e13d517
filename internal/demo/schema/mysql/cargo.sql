CREATE TABLE shipper (id int PRIMARY KEY, name varchar(80) NOT NULL, credit_limit double);
CREATE TABLE consignment (id int PRIMARY KEY, shipper_id int NOT NULL, loaded_on date NOT NULL, hazard varchar(6), FOREIGN KEY (shipper_id) REFERENCES shipper (id));
CREATE TABLE item (id bigint PRIMARY KEY, consignment_id int NOT NULL, description varchar(200) NOT NULL, weight_kg double NOT NULL, volume_m3 float, FOREIGN KEY (consignment_id) REFERENCES consignment (id));
CREATE TABLE seal_scan (item_id bigint PRIMARY KEY, image mediumblob NOT NULL, FOREIGN KEY (item_id) REFERENCES item (id));
