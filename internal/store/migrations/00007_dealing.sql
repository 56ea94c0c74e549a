-- +goose Up

-- What may be changed of a run while it renders; NULL: as it was submitted.
ALTER TABLE run ADD COLUMN terms jsonb;

-- Its frame is in flight on another node, too.
ALTER TABLE lease ADD COLUMN race boolean NOT NULL DEFAULT false;

-- Launches that may load from a place at the same moment; 0: any number.
ALTER TABLE place ADD COLUMN loads integer NOT NULL DEFAULT 0;

-- Counted rights to run renderers.
CREATE TABLE licence (
  name          text PRIMARY KEY,
  count         integer NOT NULL,
  lowered       integer NOT NULL DEFAULT 0,
  lowered_until timestamptz
);

-- What projects, and people in them (or '' for the project), have received
-- lately: reference seconds that count at that moment.
CREATE TABLE received (
  project text NOT NULL,
  person  text NOT NULL,
  amount  float8 NOT NULL,
  at      timestamptz NOT NULL,
  PRIMARY KEY (project, person)
);

-- +goose Down
DROP TABLE received;
DROP TABLE licence;
ALTER TABLE place DROP COLUMN loads;
ALTER TABLE lease DROP COLUMN race;
ALTER TABLE run DROP COLUMN terms;
