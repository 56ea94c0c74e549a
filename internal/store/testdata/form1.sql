-- A small farm as the first form of the database kept it, in the middle of a run.
UPDATE leader SET epoch = 3, batch = 9, seq = 42, holder = 'kestrel process 1';
INSERT INTO place VALUES ('scenes', '{"linux": "/srv/scenes"}'), ('frames', '{"linux": "/srv/frames"}');
INSERT INTO project VALUES ('salt-clock', 'The Salt Clock', 1, 'scenes', 'frames');
INSERT INTO person VALUES ('nadia', 'wrangler', 'hash', '2031-03-04 20:00Z');
INSERT INTO enrolment_key VALUES ('k', 'racks', 'nadia', '2031-03-04 20:00Z', '2131-03-04 20:00Z', 4);
INSERT INTO node VALUES (1, 'kiln-01', 'rack', '{"os": "linux", "speed": 1, "renderers": [{"recipe": "practice"}]}', 2, 'online', '2031-03-04 20:00Z', 'on duty', '2031-03-04 19:00Z');
INSERT INTO token VALUES ('t1', 'node', NULL, 1, 'kiln-01', '2031-03-04 20:00Z', NULL), ('t2', 'access', 'nadia', NULL, 'desk', '2031-03-04 20:00Z', NULL);
INSERT INTO run (id, job, project, kind, number, spec, state, reason, queue_order, submitted_at, started_at, done, done_seq, parked) VALUES
  (1, 'salt_010', 'salt-clock', 'final', 1,
   '{"job": "salt_010", "project": "salt-clock", "kind": "final", "number": 1, "recipe": "practice", "mode": "range", "frames": "1-12", "tries": 3, "owner": "nadia", "output": "salt_010/final-1"}',
   'rendering', 'the first frames are dealt', 1, '2031-03-04 20:00Z', '2031-03-04 20:01Z', '{[1,4)}', 30, '{[11,12)}');
INSERT INTO lease VALUES (1, 1, 1, 2, 1, '{[1,9)}', '{[8,9)}', 'because', '2031-03-04 20:01Z', NULL, NULL);
INSERT INTO frame VALUES
  (1, 4, 'done', 1, 1, 1, 'four', 10, 1, 2, 0.1, '2031-03-04 20:02Z', '2031-03-04 20:02Z', '{}', 38),
  (1, 5, 'delivering', 1, 1, 1, 'five', 10, 0, 2, 0.1, '2031-03-04 20:03Z', NULL, '{}', 40);
INSERT INTO attempt VALUES (35, 1, 11, 1, 1, 1, 'crash', 'signal 11', true, false, '2031-03-04 20:02Z');
INSERT INTO event VALUES (42, '2031-03-04 20:03Z', 'audited', NULL, NULL, '', '{}');
