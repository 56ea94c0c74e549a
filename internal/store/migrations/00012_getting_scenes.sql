-- +goose Up

-- What a node got of a bundle before a launch, with the first frame of it.
ALTER TABLE frame ADD COLUMN fetched_bytes bigint NOT NULL DEFAULT 0;
ALTER TABLE frame ADD COLUMN fetched_seconds double precision NOT NULL DEFAULT 0;

-- Scenes of the project are sent with all that they need.
ALTER TABLE project ADD COLUMN bundles boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE project DROP COLUMN bundles;
ALTER TABLE frame DROP COLUMN fetched_bytes;
ALTER TABLE frame DROP COLUMN fetched_seconds;
