-- +goose Up

-- The account and the variables that renderers are launched with.
ALTER TABLE environment RENAME TO launch_settings;

-- +goose Down
ALTER TABLE launch_settings RENAME TO environment;
