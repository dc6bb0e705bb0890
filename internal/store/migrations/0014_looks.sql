-- Who may look at a terminal of somebody else's, and until when.

-- +goose Up
CREATE TABLE looks (
  workspace_id TEXT NOT NULL REFERENCES workspaces (id),
  terminal     TEXT NOT NULL,
  person_id    TEXT NOT NULL REFERENCES people (id),
  writes       INTEGER NOT NULL,
  until_at     INTEGER NOT NULL,
  PRIMARY KEY (workspace_id, terminal, person_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX looks_of_person ON looks (person_id);

-- Of a port that others may visit: whether its owner's team alone, and until when (0:
-- for good).
ALTER TABLE shared_ports ADD COLUMN team INTEGER NOT NULL DEFAULT 0;
ALTER TABLE shared_ports ADD COLUMN until_at INTEGER NOT NULL DEFAULT 0;

-- The line that each new terminal of a workspace runs first.
CREATE TABLE first_lines (
  workspace_id TEXT PRIMARY KEY REFERENCES workspaces (id),
  line         TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- +goose Down
ALTER TABLE shared_ports DROP COLUMN until_at;
ALTER TABLE shared_ports DROP COLUMN team;
DROP TABLE first_lines;
DROP TABLE looks;
