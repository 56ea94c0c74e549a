-- +goose Up

-- Who belongs to a project, as names with roles, and whether only they see it.
ALTER TABLE project
    ADD COLUMN members jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN closed boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE project DROP COLUMN closed, DROP COLUMN members;
