-- Which piece of the address range a workspace's network has is the yard's
-- matter alone.

-- +goose Up
DROP INDEX workspaces_by_subnet;
ALTER TABLE workspaces DROP COLUMN subnet;

-- +goose Down
SELECT 1;
