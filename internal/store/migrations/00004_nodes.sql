-- +goose Up

-- What wranglers decide about nodes, and what became of them.
ALTER TABLE node
  ALTER COLUMN enrolled_at DROP NOT NULL,               -- NULL: announced, and not enrolled yet
  ADD COLUMN duty_reason text NOT NULL DEFAULT '',
  ADD COLUMN duty_since  timestamptz,
  ADD COLUMN duty_now    boolean NOT NULL DEFAULT false,
  ADD COLUMN off_until   timestamptz,                   -- given back by its owner until then
  ADD COLUMN health      text NOT NULL DEFAULT 'fine',
  ADD COLUMN health_why  text NOT NULL DEFAULT '',
  ADD COLUMN settings    jsonb NOT NULL DEFAULT '{}',
  ADD COLUMN version     bigint NOT NULL DEFAULT 0,     -- of the settings
  ADD COLUMN retired_at  timestamptz;
ALTER TABLE node DROP CONSTRAINT node_name_key;
CREATE UNIQUE INDEX node_name ON node (name) WHERE retired_at IS NULL;

-- All settings that nodes ever had.
CREATE TABLE node_settings (
  node     bigint NOT NULL REFERENCES node,
  version  bigint NOT NULL,
  settings jsonb NOT NULL,
  actor    text NOT NULL,
  reason   text NOT NULL,
  at       timestamptz NOT NULL,
  PRIMARY KEY (node, version)
);

CREATE TABLE pool (
  name     text PRIMARY KEY,
  projects jsonb NOT NULL
);

ALTER TABLE enrolment_key
  ADD COLUMN pools      jsonb NOT NULL DEFAULT '[]',
  ADD COLUMN revoked_at timestamptz;

-- +goose Down
ALTER TABLE enrolment_key DROP COLUMN pools, DROP COLUMN revoked_at;
DROP TABLE pool, node_settings;
DROP INDEX node_name;
ALTER TABLE node ADD CONSTRAINT node_name_key UNIQUE (name);
ALTER TABLE node DROP COLUMN duty_reason, DROP COLUMN duty_since, DROP COLUMN duty_now, DROP COLUMN off_until, DROP COLUMN health,
  DROP COLUMN health_why, DROP COLUMN settings, DROP COLUMN version, DROP COLUMN retired_at;
