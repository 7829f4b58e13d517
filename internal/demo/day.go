package demo

import "fmt"

// NextDay gives the statements of a day at the ferry line: 250 bookings, each with two
// postings, and a port gets another name.
func NextDay(engine string) string {
	dialect := map[string]struct{ begin, number string }{
		"sqlite":   {"BEGIN;", "printf('TN%05d', i)"},
		"postgres": {"SET search_path = public; BEGIN;", "'TN' || lpad(i::text, 5, '0')"},
		"mysql":    {"START TRANSACTION;", "concat('TN', lpad(i, 5, '0'))"},
	}[engine]
	return dialect.begin + fmt.Sprintf(`
	UPDATE port SET name = 'Skerryvoe Harbour' WHERE code = 'SKR';
	INSERT INTO booking (reference, sailing_id, passenger_id, made_at, seats, price)
		WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 250)
		SELECT %s, 1 + i * 7 %% 1800, 1 + i * 11 %% 6000, '2026-10-27 18:00:00', 2, 9900 FROM n;
	INSERT INTO posting (booking_id, account_id, amount) SELECT id, 2, price FROM booking WHERE reference LIKE 'TN%%';
	INSERT INTO posting (booking_id, account_id, amount) SELECT id, 3, -price FROM booking WHERE reference LIKE 'TN%%';
	COMMIT;`, dialect.number)
}

// Hour gives the statements of an hour: twelve bookings come in.
func Hour(engine string) string {
	begin := map[string]string{"postgres": "SET search_path = public; "}[engine]
	return begin + `INSERT INTO booking (reference, sailing_id, passenger_id, made_at, seats, price)
		SELECT replace(reference, 'TN', 'TX'), sailing_id, passenger_id, '2026-10-27 19:00:00', seats, price
		FROM booking WHERE reference LIKE 'TN0001%' OR reference IN ('TN00020', 'TN00021');`
}

// Mistake gives the statement of somebody who forgot a WHERE.
func Mistake(engine string) string {
	return map[string]string{"postgres": "SET search_path = public; "}[engine] + "UPDATE booking SET seats = 1;"
}
