ALTER TABLE passenger ADD PRIMARY KEY (id);
ALTER TABLE sailing ADD PRIMARY KEY (id);
ALTER TABLE booking ADD PRIMARY KEY (id);
ALTER TABLE booking ADD CONSTRAINT booking_reference UNIQUE (reference);
ALTER TABLE posting ADD PRIMARY KEY (id);
ALTER TABLE cabin ADD FOREIGN KEY (vessel_id) REFERENCES vessel;
ALTER TABLE sailing ADD FOREIGN KEY (vessel_id) REFERENCES vessel;
ALTER TABLE sailing ADD FOREIGN KEY (from_port) REFERENCES port;
ALTER TABLE sailing ADD FOREIGN KEY (to_port) REFERENCES port;
ALTER TABLE booking ADD FOREIGN KEY (sailing_id) REFERENCES sailing ON DELETE RESTRICT;
ALTER TABLE booking ADD FOREIGN KEY (passenger_id) REFERENCES passenger DEFERRABLE INITIALLY DEFERRED;
ALTER TABLE posting ADD FOREIGN KEY (booking_id) REFERENCES booking;
ALTER TABLE posting ADD FOREIGN KEY (account_id) REFERENCES account;
CREATE UNIQUE INDEX passenger_email ON passenger (lower(email));
CREATE INDEX sailing_departs ON sailing (departs DESC, from_port);
CREATE INDEX booking_vehicles ON booking (sailing_id) WHERE vehicle IS NOT NULL;
CREATE VIEW sailing_load AS SELECT s.id, s.departs, count(b.id) AS bookings, sum(b.seats) AS seats FROM sailing s LEFT JOIN booking b ON b.sailing_id = s.id GROUP BY s.id;
CREATE VIEW busy_sailing AS SELECT * FROM sailing_load WHERE seats > 20;
CREATE VIEW balance AS SELECT a.name, sum(p.amount) AS amount FROM account a JOIN posting p ON p.account_id = a.id GROUP BY a.id;
CREATE FUNCTION busiest() RETURNS SETOF busy_sailing LANGUAGE sql STABLE AS $$ SELECT * FROM public.busy_sailing ORDER BY seats DESC LIMIT 5 $$;
CREATE FUNCTION keep_price() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF new.price <> old.price THEN
        RAISE EXCEPTION 'prices are changed by postings';
    END IF;
    RETURN new;
END $$;
CREATE TRIGGER booking_no_price_change BEFORE UPDATE OF price ON booking FOR EACH ROW EXECUTE FUNCTION keep_price();
COMMENT ON TABLE posting IS 'The ledger: the amounts always sum to zero.';
COMMENT ON COLUMN booking.price IS 'in minor units';
COMMENT ON CONSTRAINT booking_reference ON booking IS 'printed on the ticket';
SELECT setval(pg_get_serial_sequence('passenger', 'id'), (SELECT max(id) FROM passenger));
SELECT setval('sailing_id_seq', (SELECT max(id) FROM sailing));
SELECT setval('booking_id_seq', (SELECT max(id) FROM booking));
SELECT setval('posting_id_seq', (SELECT max(id) FROM posting));
