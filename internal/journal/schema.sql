-- One statement a paragraph. Times are microseconds since 1970, UTC; 0: none.
-- The same for SQLite and PostgreSQL.

CREATE TABLE IF NOT EXISTS meta (name TEXT PRIMARY KEY, value TEXT NOT NULL);

CREATE TABLE IF NOT EXISTS run (
  id TEXT PRIMARY KEY,
  command TEXT NOT NULL,
  job TEXT NOT NULL,
  started_by TEXT NOT NULL,
  host TEXT NOT NULL,
  account TEXT NOT NULL,
  pid BIGINT NOT NULL,
  keep TEXT NOT NULL,
  place TEXT NOT NULL,
  started BIGINT NOT NULL,
  ended BIGINT NOT NULL,
  result TEXT NOT NULL,
  code TEXT NOT NULL,
  reason TEXT NOT NULL,
  advice TEXT NOT NULL,
  warnings TEXT NOT NULL,
  log TEXT NOT NULL,
  step TEXT NOT NULL,
  done_rows BIGINT NOT NULL,
  done_bytes BIGINT NOT NULL,
  expected_bytes BIGINT NOT NULL,
  beat BIGINT NOT NULL
);

CREATE INDEX IF NOT EXISTS run_started ON run (started);

CREATE INDEX IF NOT EXISTS run_job ON run (job, command, started);

CREATE INDEX IF NOT EXISTS run_result ON run (result, started);

CREATE TABLE IF NOT EXISTS part (
  run TEXT NOT NULL,
  job TEXT NOT NULL,
  name TEXT NOT NULL,
  command TEXT NOT NULL,
  dump TEXT NOT NULL,
  path TEXT NOT NULL,
  kind TEXT NOT NULL,
  moment BIGINT NOT NULL,
  ended BIGINT NOT NULL,
  took BIGINT NOT NULL,
  rows BIGINT NOT NULL,
  bytes BIGINT NOT NULL,
  stored BIGINT NOT NULL,
  result TEXT NOT NULL,
  code TEXT NOT NULL,
  reason TEXT NOT NULL
);

CREATE INDEX IF NOT EXISTS part_run ON part (run);

CREATE INDEX IF NOT EXISTS part_of ON part (job, name, ended);

CREATE TABLE IF NOT EXISTS read_back (dump TEXT PRIMARY KEY, at BIGINT NOT NULL);

CREATE TABLE IF NOT EXISTS trouble (
  channel TEXT NOT NULL,
  subject TEXT NOT NULL,
  what TEXT NOT NULL,
  since BIGINT NOT NULL,
  told BIGINT NOT NULL,
  PRIMARY KEY (channel, subject)
);

CREATE TABLE IF NOT EXISTS message (
  id TEXT PRIMARY KEY,
  channel TEXT NOT NULL,
  made BIGINT NOT NULL,
  tries BIGINT NOT NULL,
  next BIGINT NOT NULL,
  reason TEXT NOT NULL,
  body TEXT NOT NULL
);
