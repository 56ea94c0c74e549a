-- +goose Up

-- The picture of a tiled still was put together.
ALTER TABLE run ADD COLUMN stitched boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE run DROP COLUMN stitched;
