CREATE INDEX shift_crew ON shift (crew_id, starts_at);
CREATE VIEW hours_by_rank AS SELECT c.`rank`, sum(s.hours) AS hours FROM crew c JOIN shift s ON s.crew_id = c.id GROUP BY c.`rank`;
