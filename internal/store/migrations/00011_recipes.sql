-- +goose Up

-- Recipes, in versions that never change.
CREATE TABLE recipe (
    name       text PRIMARY KEY,
    dropped_at timestamptz
);
CREATE TABLE recipe_version (
    name    text NOT NULL,
    version int NOT NULL,
    text    text NOT NULL,
    origin  text NOT NULL CHECK (origin IN ('shipped', 'folder', 'person')),
    by      text NOT NULL,
    note    text NOT NULL,
    at      timestamptz NOT NULL,
    PRIMARY KEY (name, version)
);

-- Why somebody should look at a frame that is done.
ALTER TABLE frame ADD COLUMN suspect text;
CREATE INDEX frame_suspect ON frame (run) WHERE suspect IS NOT NULL;

-- The scene that was found changed, and the one that somebody goes on with.
ALTER TABLE run ADD COLUMN found_scene text NOT NULL DEFAULT '';
ALTER TABLE run ADD COLUMN taken_scene text NOT NULL DEFAULT '';

-- Nodes of which no pieces of bundles pass to others.
ALTER TABLE pool ADD COLUMN alone boolean NOT NULL DEFAULT false;

-- How delivered files are named; empty: as ever.
ALTER TABLE project ADD COLUMN names text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE pool DROP COLUMN alone;
ALTER TABLE run DROP COLUMN found_scene;
ALTER TABLE run DROP COLUMN taken_scene;
ALTER TABLE project DROP COLUMN names;
ALTER TABLE frame DROP COLUMN suspect;
DROP TABLE recipe_version;
DROP TABLE recipe;
