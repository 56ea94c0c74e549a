-- +goose Up

-- When nodes are asked by themselves whether they can render what is in the queue; no row:
-- as in the beginning.
CREATE TABLE preflight_rule (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    held boolean NOT NULL,
    night text NOT NULL,
    zone text NOT NULL
);

-- +goose Down
DROP TABLE preflight_rule;
