-- +goose Up

-- Where the active service is reached, since when it is active and why.
ALTER TABLE leader
  ADD COLUMN address text NOT NULL DEFAULT '',
  ADD COLUMN socket  text NOT NULL DEFAULT '',
  ADD COLUMN since   timestamptz NOT NULL DEFAULT now(),
  ADD COLUMN reason  text NOT NULL DEFAULT '';

-- The services that share this database, active or standing by. It is news,
-- not truth: nothing is decided by it.
CREATE TABLE member (
  name    text PRIMARY KEY,
  address text NOT NULL,
  version text NOT NULL,
  seen    timestamptz NOT NULL
);

-- Which farm this is. A restored backup becomes another life of the same
-- farm: what nodes still hold of the life before is not taken for its own.
CREATE TABLE farm (
  only_row boolean PRIMARY KEY DEFAULT true CHECK (only_row),
  life     text NOT NULL
);
INSERT INTO farm (life) VALUES (gen_random_uuid()::text);

-- fence lets a batch pass that follows the last one of the active service, and
-- refuses any other.
-- +goose StatementBegin
CREATE FUNCTION fence(my_epoch bigint, my_batch bigint, last_seq bigint) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
  UPDATE leader SET batch = batch + 1, seq = last_seq, beat = clock_timestamp() WHERE epoch = my_epoch AND batch = my_batch;
  IF NOT FOUND THEN RAISE EXCEPTION 'another service has taken over' USING ERRCODE = 'VX001'; END IF;
END $$;
-- +goose StatementEnd

-- +goose Down
DROP FUNCTION fence;
DROP TABLE farm, member;
ALTER TABLE leader DROP COLUMN address, DROP COLUMN socket, DROP COLUMN since, DROP COLUMN reason;
