CREATE UNIQUE INDEX passenger_email ON passenger (lower(email));
CREATE INDEX sailing_departs ON sailing (departs, from_port);
CREATE INDEX booking_vehicles ON booking (sailing_id) WHERE vehicle IS NOT NULL;
CREATE INDEX posting_account ON posting (account_id);
CREATE VIEW sailing_load AS SELECT s.id, s.departs, count(b.id) AS bookings, sum(b.seats) AS seats FROM sailing s LEFT JOIN booking b ON b.sailing_id = s.id GROUP BY s.id;
CREATE VIEW balance AS SELECT a.name, sum(p.amount) AS amount FROM account a JOIN posting p ON p.account_id = a.id GROUP BY a.id;
CREATE TRIGGER booking_no_price_change BEFORE UPDATE OF price ON booking WHEN old.price <> new.price
BEGIN
    SELECT raise(ABORT, 'prices are changed by postings');
END;
ANALYZE;
