-- +goose Up

-- frame_set reads a frame range as Vexillum prints it: 1-10,15,20-30/2.
-- +goose StatementBegin
CREATE FUNCTION frame_set(text text) RETURNS int4multirange LANGUAGE plpgsql IMMUTABLE STRICT AS $$
DECLARE
  result int4multirange := '{}';
  piece text;
  m text[];
BEGIN
  IF text = '' THEN RETURN result; END IF;
  FOREACH piece IN ARRAY string_to_array(text, ',') LOOP
    m := regexp_match(piece, '^(-?\d+)(?:-(-?\d+)(?:/(\d+))?)?$');
    IF m IS NULL THEN RAISE EXCEPTION 'not a frame range: %', piece; END IF;
    IF m[3] IS NULL THEN
      result := result + int4multirange(int4range(m[1]::int, COALESCE(m[2], m[1])::int, '[]'));
    ELSE
      result := result + (SELECT range_agg(int4range(f, f, '[]')) FROM generate_series(m[1]::int, m[2]::int, m[3]::int) f);
    END IF;
  END LOOP;
  RETURN result;
END $$;
-- +goose StatementEnd

-- Who is active. Each batch moves its number on; a service that was deposed
-- finds another epoch and commits nothing.
CREATE TABLE leader (
  only_row boolean PRIMARY KEY DEFAULT true CHECK (only_row),
  epoch    bigint NOT NULL,
  batch    bigint NOT NULL,
  seq      bigint NOT NULL,
  beat     timestamptz NOT NULL,
  holder   text NOT NULL
);
INSERT INTO leader (epoch, batch, seq, beat, holder) VALUES (0, 0, 0, now(), '');

CREATE TABLE place (
  name  text PRIMARY KEY,
  paths jsonb NOT NULL
);

CREATE TABLE project (
  name   text PRIMARY KEY,
  title  text NOT NULL,
  weight double precision NOT NULL CHECK (weight > 0),
  scenes text NOT NULL REFERENCES place,
  frames text NOT NULL REFERENCES place
);

CREATE TABLE person (
  name          text PRIMARY KEY,
  role          text NOT NULL CHECK (role IN ('viewer', 'artist', 'wrangler', 'admin')),
  password_hash text NOT NULL,
  created_at    timestamptz NOT NULL
);

CREATE TABLE enrolment_key (
  hash       text PRIMARY KEY,
  label      text NOT NULL,
  created_by text NOT NULL,
  created_at timestamptz NOT NULL,
  expires_at timestamptz NOT NULL,
  uses_left  integer NOT NULL CHECK (uses_left >= 0)
);

CREATE TABLE node (
  id          bigint PRIMARY KEY,
  name        text NOT NULL UNIQUE,
  kind        text NOT NULL CHECK (kind IN ('rack', 'desk')),
  facts       jsonb NOT NULL,
  session     bigint NOT NULL,
  reach       text NOT NULL CHECK (reach IN ('online', 'silent')),
  reach_since timestamptz NOT NULL,
  duty        text NOT NULL,
  enrolled_at timestamptz NOT NULL
);

CREATE TABLE token (
  hash       text PRIMARY KEY,
  kind       text NOT NULL CHECK (kind IN ('session', 'access', 'node')),
  person     text REFERENCES person,
  node       bigint REFERENCES node,
  label      text NOT NULL,
  created_at timestamptz NOT NULL,
  expires_at timestamptz
);

CREATE TABLE run (
  id           bigint PRIMARY KEY,
  job          text NOT NULL,
  project      text NOT NULL REFERENCES project,
  kind         text NOT NULL,
  number       integer NOT NULL,
  spec         jsonb NOT NULL,
  state        text NOT NULL,
  reason       text NOT NULL,
  queue_order  bigint NOT NULL,
  submit_key   text UNIQUE,
  submitted_at timestamptz NOT NULL,
  started_at   timestamptz,
  ended_at     timestamptz,
  done         int4multirange NOT NULL DEFAULT '{}',  -- whole up to done_seq; later ones are in frame
  done_seq     bigint NOT NULL DEFAULT 0,
  parked       int4multirange NOT NULL DEFAULT '{}',
  UNIQUE (job, kind, number)
);

CREATE TABLE lease (
  id         bigint PRIMARY KEY,
  node       bigint NOT NULL REFERENCES node,
  run        bigint NOT NULL REFERENCES run,
  session    bigint NOT NULL,
  ask        bigint NOT NULL,
  given      int4multirange NOT NULL,
  trimmed    int4multirange NOT NULL DEFAULT '{}',
  reason     text NOT NULL,
  opened_at  timestamptz NOT NULL,
  ended_at   timestamptz,
  end_reason text
);
CREATE INDEX lease_run ON lease (run);

-- One row for each frame that has had a good picture.
CREATE TABLE frame (
  run             bigint NOT NULL REFERENCES run,
  frame           integer NOT NULL,
  state           text NOT NULL CHECK (state IN ('delivering', 'done', 'lost')),
  lease           bigint NOT NULL,
  launch          integer NOT NULL,
  node            bigint NOT NULL,
  hash            text NOT NULL,
  bytes           bigint NOT NULL,
  startup_seconds double precision NOT NULL,
  render_seconds  double precision NOT NULL,
  check_seconds   double precision NOT NULL,
  accepted_at     timestamptz NOT NULL,
  done_at         timestamptz,
  lost_hashes     text[] NOT NULL DEFAULT '{}',  -- accepted earlier, delivery lost
  seq             bigint NOT NULL,
  PRIMARY KEY (run, frame)
);
CREATE INDEX frame_seq ON frame (run, seq);

-- One row for each try that failed.
CREATE TABLE attempt (
  seq      bigint PRIMARY KEY,
  run      bigint NOT NULL REFERENCES run,
  frame    integer NOT NULL,
  lease    bigint NOT NULL,
  launch   integer NOT NULL,
  node     bigint NOT NULL,
  cause    text NOT NULL,
  message  text NOT NULL,
  counts   boolean NOT NULL,
  forgiven boolean NOT NULL DEFAULT false,
  at       timestamptz NOT NULL
);
CREATE INDEX attempt_run ON attempt (run, frame);

-- Everything that happened, in the order in which it was committed.
CREATE TABLE event (
  seq    bigint PRIMARY KEY,
  at     timestamptz NOT NULL,
  kind   text NOT NULL,
  run    bigint,
  node   bigint,
  reason text NOT NULL,
  body   jsonb
);
CREATE INDEX event_run ON event (run, seq) WHERE run IS NOT NULL;
CREATE INDEX event_node ON event (node, seq) WHERE node IS NOT NULL;

CREATE TABLE audit (
  seq     bigint PRIMARY KEY,
  at      timestamptz NOT NULL,
  actor   text NOT NULL,
  action  text NOT NULL,
  subject text NOT NULL,
  before  text NOT NULL,
  after   text NOT NULL
);

-- Small pictures for contact sheets. They may be missing.
CREATE TABLE thumbnail (
  run   bigint NOT NULL,
  frame integer NOT NULL,
  jpeg  bytea NOT NULL,
  PRIMARY KEY (run, frame)
);

-- +goose Down
DROP TABLE thumbnail, audit, event, attempt, frame, lease, run, token, node, enrolment_key, person, project, place, leader;
DROP FUNCTION frame_set;
