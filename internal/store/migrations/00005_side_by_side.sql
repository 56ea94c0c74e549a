-- +goose Up

-- What a lease owns of its node; NULL: the whole node.
ALTER TABLE lease ADD COLUMN share jsonb;
-- From now on trimmed holds all frames that have left a lease without a result.
UPDATE lease l SET trimmed = trimmed + a.frames
  FROM (SELECT lease, range_agg(int4range(frame, frame, '[]')) AS frames FROM attempt GROUP BY lease) a WHERE l.id = a.lease AND l.ended_at IS NULL;
UPDATE lease l SET trimmed = trimmed + f.frames
  FROM (SELECT run, range_agg(int4range(frame, frame, '[]')) AS frames FROM frame WHERE state = 'lost' GROUP BY run) f WHERE l.run = f.run AND l.ended_at IS NULL;
-- The most main memory that the launch had, in bytes; 0: not measured.
ALTER TABLE frame ADD COLUMN memory_bytes bigint NOT NULL DEFAULT 0;

-- As whom renderers run and what they find in their environment, for a project,
-- a recipe, both or, with two empty names, all. An empty one says nothing.
CREATE TABLE environment (
  project text NOT NULL,
  recipe  text NOT NULL,
  env     jsonb NOT NULL,
  PRIMARY KEY (project, recipe)
);

-- Places, recipes and pools that are held as a whole, or released in steps.
CREATE TABLE stay (
  kind text NOT NULL, -- place, recipe or pool
  name text NOT NULL,
  stay jsonb NOT NULL,
  PRIMARY KEY (kind, name)
);

-- +goose Down
DROP TABLE stay, environment;
ALTER TABLE frame DROP COLUMN memory_bytes;
ALTER TABLE lease DROP COLUMN share;
