-- +goose Up

-- Presets, in versions that never change. An empty project or recipe is any.
CREATE TABLE preset (
    project    text NOT NULL,
    recipe     text NOT NULL,
    name       text NOT NULL,
    dropped_at timestamptz,
    PRIMARY KEY (project, recipe, name)
);
CREATE TABLE preset_version (
    project text NOT NULL,
    recipe  text NOT NULL,
    name    text NOT NULL,
    version int NOT NULL,
    text    text NOT NULL,
    by      text NOT NULL,
    note    text NOT NULL,
    at      timestamptz NOT NULL,
    PRIMARY KEY (project, recipe, name, version)
);

-- Which preset a person's runs get where nothing is said.
CREATE TABLE preset_choice (
    person  text NOT NULL,
    project text NOT NULL,
    recipe  text NOT NULL,
    name    text NOT NULL,
    PRIMARY KEY (person, project, recipe)
);

-- +goose Down
DROP TABLE preset_choice;
DROP TABLE preset_version;
DROP TABLE preset;
