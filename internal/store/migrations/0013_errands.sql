-- Workspaces that were launched for one command: who asked for them says now and
-- then that they are still there; when they do not, or the time is over, it goes.

-- +goose Up
CREATE TABLE errands (
  workspace_id TEXT PRIMARY KEY,
  lease_until  INTEGER NOT NULL,
  most_until   INTEGER NOT NULL
) WITHOUT ROWID;

-- +goose Down
DROP TABLE errands;
