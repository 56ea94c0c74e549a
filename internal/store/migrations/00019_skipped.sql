-- +goose Up

-- Frames of a run that somebody has given up, with a note each; they are parked as well.
ALTER TABLE run ADD COLUMN skipped jsonb NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE run DROP COLUMN skipped;
