-- +goose Up

-- Where notices go.
CREATE TABLE channel (
  name text PRIMARY KEY,
  body jsonb NOT NULL
);

-- Who is on call, as iCalendar.
CREATE TABLE on_call (
  one      boolean PRIMARY KEY DEFAULT true CHECK (one),
  calendar text NOT NULL
);

-- Up to which change notices were made.
CREATE TABLE notice_mark (
  one boolean PRIMARY KEY DEFAULT true CHECK (one),
  seq bigint NOT NULL
);
INSERT INTO notice_mark (seq) SELECT COALESCE(max(seq), 0) FROM event;

-- Notices on their way to channels, and what became of them.
CREATE TABLE notice (
  id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  channel  text NOT NULL,
  body     jsonb NOT NULL,
  hand     bigint, -- the number of what needs a hand
  made_at  timestamptz NOT NULL,
  due      timestamptz NOT NULL,
  state    text NOT NULL CHECK (state IN ('waiting', 'delivered', 'given up', 'dropped')),
  message  text NOT NULL DEFAULT '', -- the message that tells it, maybe with others
  tries    int NOT NULL DEFAULT 0,
  next_at  timestamptz NOT NULL,     -- not before
  answer   text NOT NULL DEFAULT '', -- to the last try
  ended_at timestamptz
);
CREATE INDEX notice_waiting ON notice (channel, id) WHERE state = 'waiting';
CREATE INDEX notice_hand ON notice (hand, made_at) WHERE hand IS NOT NULL;
CREATE INDEX notice_made_at ON notice (made_at);

-- +goose Down
DROP TABLE notice;
DROP TABLE notice_mark;
DROP TABLE on_call;
DROP TABLE channel;
