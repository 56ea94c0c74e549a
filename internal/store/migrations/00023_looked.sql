-- +goose Up

-- When somebody said that nothing is left to do about the parked frames of a run.
ALTER TABLE run ADD COLUMN looked_at timestamptz; -- none was parked since
UPDATE run r SET looked_at = h.resolved_at FROM hand h
  WHERE h.run = r.id AND h.of->>'kind' IN ('parked', 'failed') AND h.resolved_by <> '';
ALTER TABLE hand DROP COLUMN extent;

-- +goose Down
ALTER TABLE hand ADD COLUMN extent bigint NOT NULL DEFAULT 1;
ALTER TABLE run DROP COLUMN looked_at;
