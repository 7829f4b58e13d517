CREATE SCHEMA freight;
CREATE TABLE freight.shipper (id integer PRIMARY KEY, name text NOT NULL, credit_limit double precision);
CREATE TABLE freight.consignment (id integer PRIMARY KEY, shipper_id integer NOT NULL REFERENCES freight.shipper, loaded_on date NOT NULL, hazard varchar(6));
CREATE TABLE freight.item (id bigint PRIMARY KEY, consignment_id integer NOT NULL REFERENCES freight.consignment, description text NOT NULL,
    weight_kg double precision NOT NULL, volume_m3 real);
CREATE TABLE freight.seal_scan (item_id bigint PRIMARY KEY REFERENCES freight.item, image bytea NOT NULL);
SET search_path = freight;
