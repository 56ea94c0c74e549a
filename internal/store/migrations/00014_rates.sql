-- +goose Up

-- What machines cost while they work: of the farm, a pool or a node.
CREATE TABLE rate (
    kind     text NOT NULL CHECK (kind IN ('farm', 'pool', 'node')),
    name     text NOT NULL,
    watts    double precision NOT NULL,
    per_hour double precision NOT NULL,
    currency text NOT NULL,
    PRIMARY KEY (kind, name)
);

-- +goose Down
DROP TABLE rate;
