CREATE TABLE port (code char(3) PRIMARY KEY CHECK (code REGEXP '^[A-Z]{3}$'), name varchar(40) NOT NULL, latitude double, longitude double);
CREATE TABLE vessel (id int PRIMARY KEY, name varchar(60) NOT NULL UNIQUE, built int, length_m decimal(6,1), retired_on date);
CREATE TABLE cabin (vessel_id int NOT NULL, number int NOT NULL, class enum('inside', 'outside', 'suite') NOT NULL, berths smallint NOT NULL, PRIMARY KEY (vessel_id, number));
CREATE TABLE passenger (id bigint AUTO_INCREMENT PRIMARY KEY, name varchar(80) NOT NULL, email varchar(80), phone varchar(20), born date, note text);
CREATE TABLE sailing (id int AUTO_INCREMENT PRIMARY KEY, vessel_id int NOT NULL, from_port char(3) NOT NULL, to_port char(3) NOT NULL, departs datetime NOT NULL,
    delay_min int, status enum('planned', 'boarding', 'sailed', 'cancelled') NOT NULL DEFAULT 'planned');
CREATE TABLE booking (id bigint AUTO_INCREMENT PRIMARY KEY, reference varchar(10) NOT NULL, sailing_id int NOT NULL, passenger_id bigint NOT NULL,
    made_at timestamp NOT NULL DEFAULT current_timestamp, seats int NOT NULL DEFAULT 1, price bigint NOT NULL COMMENT 'in minor units', vehicle varchar(20),
    price_per_seat decimal(12,2) GENERATED ALWAYS AS (round(price / seats, 2)) STORED);
CREATE TABLE account (id int PRIMARY KEY, name varchar(40) NOT NULL UNIQUE);
CREATE TABLE posting (id bigint AUTO_INCREMENT PRIMARY KEY, booking_id bigint, account_id int NOT NULL, amount bigint NOT NULL) COMMENT 'The ledger: the amounts always sum to zero.';
