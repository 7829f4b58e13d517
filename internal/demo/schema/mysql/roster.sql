CREATE TABLE crew (id int PRIMARY KEY, name varchar(80) NOT NULL, `rank` varchar(20) NOT NULL, joined_on date NOT NULL, certificate varbinary(64));
CREATE TABLE shift (id bigint PRIMARY KEY, crew_id int NOT NULL, starts_at datetime NOT NULL, hours double NOT NULL, remark varchar(40), FOREIGN KEY (crew_id) REFERENCES crew (id));
CREATE TABLE setting (name varchar(40) PRIMARY KEY, value blob);
