-- +goose Up

-- Nodes and devices that the farm has set aside are tried again after a pause that grows.
ALTER TABLE node
  ADD COLUMN health_at timestamptz,
  ADD COLUMN trial_at timestamptz,
  ADD COLUMN trial_pause double precision NOT NULL DEFAULT 0, -- seconds
  ADD COLUMN aside jsonb; -- graphics devices by their ids

-- Who was to blame for a try that failed, and how sure that was.
ALTER TABLE attempt
  ADD COLUMN blame text NOT NULL DEFAULT '',
  ADD COLUMN sure double precision NOT NULL DEFAULT 0;
CREATE INDEX attempt_at ON attempt (at);

-- What runs wait for that stands around them and has failed.
CREATE TABLE wait (
  kind    text NOT NULL,
  name    text NOT NULL,
  version text NOT NULL,
  wait    jsonb NOT NULL,
  PRIMARY KEY (kind, name, version)
);

-- +goose Down
DROP TABLE wait;
DROP INDEX attempt_at;
ALTER TABLE attempt DROP COLUMN sure, DROP COLUMN blame;
ALTER TABLE node DROP COLUMN aside, DROP COLUMN trial_pause, DROP COLUMN trial_at, DROP COLUMN health_at;
