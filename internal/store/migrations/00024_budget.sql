-- +goose Up

-- Machine hours of which people are told once a project has used them.
ALTER TABLE project ADD COLUMN budget_hours double precision NOT NULL DEFAULT 0; -- 0: none

-- +goose Down
ALTER TABLE project DROP COLUMN budget_hours;
