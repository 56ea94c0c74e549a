-- +goose Up

-- What a node got of a bundle before a launch, with the first frame of it.
ALTER TABLE frame ADD COLUMN fetched_bytes bigint NOT NULL DEFAULT 0;
ALTER TABLE frame ADD COLUMN fetched_seconds double precision NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE frame DROP COLUMN fetched_bytes;
ALTER TABLE frame DROP COLUMN fetched_seconds;
