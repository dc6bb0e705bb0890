-- +goose Up
-- What somebody holds is summed from the index alone, not from whole rows.
DROP INDEX workspaces_by_phase;
CREATE INDEX workspaces_reserved ON workspaces (owner_id, kind, phase, cores_milli, memory_bytes) WHERE phase <> 'removed';
-- What a step brought in.
ALTER TABLE steps ADD COLUMN bytes INTEGER NOT NULL DEFAULT 0;
