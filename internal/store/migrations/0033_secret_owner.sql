-- Whose the file of a secret is, in the workspace.

-- +goose Up
ALTER TABLE secrets ADD COLUMN owner TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE secrets DROP COLUMN owner;
