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

-- +goose Down
DROP TABLE recipe_version;
DROP TABLE recipe;
