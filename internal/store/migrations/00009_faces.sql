-- +goose Up

-- A node whose process was stopped properly is away, not silent.
ALTER TABLE node DROP CONSTRAINT node_reach_check;
ALTER TABLE node ADD CONSTRAINT node_reach_check CHECK (reach IN ('online', 'away', 'silent'));

-- +goose Down
UPDATE node SET reach = 'silent' WHERE reach = 'away';
ALTER TABLE node DROP CONSTRAINT node_reach_check;
ALTER TABLE node ADD CONSTRAINT node_reach_check CHECK (reach IN ('online', 'silent'));
