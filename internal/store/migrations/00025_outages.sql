-- +goose Up

-- Times in which no service was active, or the active one could not reach the database.
CREATE TABLE outage (
  epoch bigint PRIMARY KEY, -- of the service that ended it
  began timestamptz NOT NULL, -- last sign of life before
  ended timestamptz NOT NULL,
  why   text NOT NULL
);
CREATE INDEX outage_ended ON outage (ended);

-- +goose Down
DROP TABLE outage;
