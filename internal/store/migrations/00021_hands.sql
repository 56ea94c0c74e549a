-- +goose Up

-- What needed a person, each from when it was seen until it was over.
CREATE TABLE hand (
  id            bigint PRIMARY KEY,
  of            jsonb NOT NULL,
  project       text NOT NULL DEFAULT '', -- of its run; empty: it was the farm's
  run           bigint,
  node          bigint,
  extent        bigint NOT NULL,
  sentence      text NOT NULL,
  evidence      text NOT NULL,
  count         int NOT NULL,
  raised_at     timestamptz NOT NULL,
  last_at       timestamptz NOT NULL,
  ended_at      timestamptz,
  taken_by      text NOT NULL DEFAULT '',
  taken_at      timestamptz,
  snoozed_by    text NOT NULL DEFAULT '',
  snoozed_until timestamptz,
  resolved_by   text NOT NULL DEFAULT '',
  resolved_at   timestamptz,
  note          text NOT NULL DEFAULT ''
);
CREATE INDEX hand_open ON hand (id) WHERE ended_at IS NULL;
CREATE INDEX hand_raised_at ON hand (raised_at);

-- +goose Down
DROP TABLE hand;
