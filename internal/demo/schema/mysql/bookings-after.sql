ALTER TABLE cabin ADD FOREIGN KEY (vessel_id) REFERENCES vessel (id);
ALTER TABLE sailing ADD FOREIGN KEY (vessel_id) REFERENCES vessel (id), ADD FOREIGN KEY (from_port) REFERENCES port (code), ADD FOREIGN KEY (to_port) REFERENCES port (code), ADD KEY sailing_departs (departs, from_port);
ALTER TABLE booking ADD UNIQUE KEY booking_reference (reference), ADD FOREIGN KEY (sailing_id) REFERENCES sailing (id), ADD FOREIGN KEY (passenger_id) REFERENCES passenger (id);
ALTER TABLE posting ADD FOREIGN KEY (booking_id) REFERENCES booking (id), ADD FOREIGN KEY (account_id) REFERENCES account (id);
ALTER TABLE passenger ADD UNIQUE KEY passenger_email (email), ADD FULLTEXT KEY passenger_note (note);
CREATE VIEW sailing_load AS SELECT s.id, s.departs, count(b.id) AS bookings, sum(b.seats) AS seats FROM sailing s LEFT JOIN booking b ON b.sailing_id = s.id GROUP BY s.id, s.departs;
CREATE VIEW busy_sailing AS SELECT * FROM sailing_load WHERE seats > 20;
CREATE VIEW balance AS SELECT a.name, sum(p.amount) AS amount FROM account a JOIN posting p ON p.account_id = a.id GROUP BY a.id, a.name;
CREATE TRIGGER booking_no_price_change BEFORE UPDATE ON booking FOR EACH ROW
BEGIN
    IF NEW.price <> OLD.price THEN
        SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'prices are changed by postings';
    END IF;
END;
