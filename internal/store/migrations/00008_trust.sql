-- +goose Up

-- Jobs have their names in a project.
ALTER TABLE run DROP CONSTRAINT run_job_kind_number_key;
ALTER TABLE run ADD CONSTRAINT run_project_job_kind_number_key UNIQUE (project, job, kind, number);

-- What was asked for under a submitter's own key.
ALTER TABLE run ADD COLUMN submit_digest text NOT NULL DEFAULT '';

-- Why the farm itself holds a run; empty where a person does, or nobody.
ALTER TABLE run ADD COLUMN held_for text NOT NULL DEFAULT '', ADD COLUMN released_at timestamptz;

-- Nodes that were shut out and may come back with a key, under their names.
ALTER TABLE enrolment_key ADD COLUMN returns jsonb NOT NULL DEFAULT '[]';

-- Frames that were done and are rendered again; those done since are no longer
-- among them.
ALTER TABLE run ADD COLUMN redo int4multirange NOT NULL DEFAULT '{}';
ALTER TABLE frame DROP CONSTRAINT frame_state_check;
ALTER TABLE frame ADD CONSTRAINT frame_state_check CHECK (state IN ('delivering', 'done', 'lost', 'redo'));

-- Who has set a node aside: triage, or a person where it is empty.
ALTER TABLE node ADD COLUMN health_by text NOT NULL DEFAULT '';

-- When a token was last used, as of a minute ago or so; it is news, not truth.
ALTER TABLE token ADD COLUMN used_at timestamptz;
-- Tokens of people end.
UPDATE token SET expires_at = now() + interval '90 days' WHERE kind <> 'node' AND expires_at IS NULL;

-- What the services that share this database know, and nobody else: they prove
-- by it for whom they hand requests on.
ALTER TABLE farm ADD COLUMN secret text NOT NULL DEFAULT gen_random_uuid()::text || gen_random_uuid()::text;

-- +goose Down
ALTER TABLE farm DROP COLUMN secret;
ALTER TABLE token DROP COLUMN used_at;
ALTER TABLE node DROP COLUMN health_by;
ALTER TABLE enrolment_key DROP COLUMN returns;
UPDATE frame SET state = 'done' WHERE state = 'redo';
ALTER TABLE frame DROP CONSTRAINT frame_state_check;
ALTER TABLE frame ADD CONSTRAINT frame_state_check CHECK (state IN ('delivering', 'done', 'lost'));
ALTER TABLE run DROP COLUMN redo;
ALTER TABLE run DROP COLUMN submit_digest, DROP COLUMN held_for, DROP COLUMN released_at;
ALTER TABLE run DROP CONSTRAINT run_project_job_kind_number_key;
ALTER TABLE run ADD CONSTRAINT run_job_kind_number_key UNIQUE (job, kind, number);
