-- What the yard has of workspaces that no record knows, and that was looked at.

-- +goose Up
CREATE TABLE kept_strays (
  workspace_id TEXT PRIMARY KEY, -- of no workspace here
  reason       TEXT NOT NULL,
  person_id    TEXT NOT NULL REFERENCES people (id),
  at           INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE kept_strays;
