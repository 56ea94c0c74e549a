-- +goose Up

-- Frames of a run that somebody has given up, by note; they are parked as well.
CREATE TABLE skip (
  run    bigint NOT NULL REFERENCES run,
  note   text NOT NULL,
  frames int4multirange NOT NULL,
  PRIMARY KEY (run, note)
);
INSERT INTO skip
  SELECT r.id, s.value, range_agg(int4range(s.key::int, s.key::int, '[]'))
  FROM run r, jsonb_each_text(r.skipped) s GROUP BY r.id, s.value;
ALTER TABLE run DROP COLUMN skipped;

-- +goose Down
ALTER TABLE run ADD COLUMN skipped jsonb NOT NULL DEFAULT '{}';
UPDATE run r SET skipped = s.notes FROM (
  SELECT run, jsonb_object_agg(f::text, note) AS notes
  FROM skip, unnest(frames) AS span, generate_series(lower(span), upper(span) - 1) AS f GROUP BY run
) s WHERE r.id = s.run;
DROP TABLE skip;
