-- +goose Up

-- The files of a frame that has passes: pass, hash and size of each. NULL for
-- a frame of one file.
ALTER TABLE frame ADD COLUMN files jsonb;

-- +goose Down
ALTER TABLE frame DROP COLUMN files;
