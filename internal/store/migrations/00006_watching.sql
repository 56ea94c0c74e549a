-- +goose Up

-- What machines measure of themselves: fine for an hour, by the minute for a
-- day, by the quarter of an hour for ninety days. Partitions are made and
-- dropped by the service. What is not known is below 0. The fine ones are soon
-- gone anyway, and need not outlive a crash of the database.
CREATE TABLE usage_fine (
  node         bigint NOT NULL,
  at           timestamptz NOT NULL,
  processor    real NOT NULL, -- part of all cores, 0 to 1
  most         real NOT NULL, -- the most of it
  memory       real NOT NULL, -- bytes
  memory_most  real NOT NULL,
  swap         real NOT NULL, -- bytes
  disk_free    real NOT NULL, -- bytes
  disk_read    real NOT NULL, -- bytes a second
  disk_written real NOT NULL,
  received     real NOT NULL,
  sent         real NOT NULL,
  load         real NOT NULL,
  temperature  real NOT NULL, -- degrees Celsius
  groups       real[],        -- of processor, by groups of cores
  devices      jsonb
) PARTITION BY RANGE (at);
CREATE INDEX usage_fine_node ON usage_fine (node, at);
CREATE TABLE usage_minute (LIKE usage_fine) PARTITION BY RANGE (at);
CREATE INDEX usage_minute_node ON usage_minute (node, at);
CREATE TABLE usage_quarter (LIKE usage_fine) PARTITION BY RANGE (at);
CREATE INDEX usage_quarter_node ON usage_quarter (node, at);

-- What node processes and renderers have said, as they sent it: pieces of lines,
-- compressed. A day is a partition, which is dropped after two weeks.
CREATE TABLE log_piece (
  day      date NOT NULL,
  node     bigint NOT NULL,
  lease    bigint NOT NULL, -- 0: the node process itself
  seq      bigint NOT NULL, -- grows along the log
  run      bigint NOT NULL, -- 0: none
  first_at timestamptz NOT NULL,
  last_at  timestamptz NOT NULL,
  lines    int NOT NULL,
  text     bytea NOT NULL,  -- gzip
  PRIMARY KEY (node, lease, seq, day)
) PARTITION BY RANGE (day);
CREATE INDEX log_piece_run ON log_piece (run, lease, seq) WHERE run <> 0;

-- +goose Down
DROP TABLE log_piece, usage_quarter, usage_minute, usage_fine;
