-- Ports that people may see who are not signed in: by a link, or all of them.

-- +goose Up
CREATE TABLE look_links (
  id           TEXT PRIMARY KEY,
  workspace_id TEXT NOT NULL REFERENCES workspaces (id),
  port         INTEGER NOT NULL,
  hash         BLOB NOT NULL, -- SHA-256 of what the link holds
  wakes        INTEGER NOT NULL,
  visits_most  INTEGER NOT NULL, -- 0: no bound
  visits       INTEGER NOT NULL DEFAULT 0,
  visited_at   INTEGER NOT NULL DEFAULT 0, -- 0: never
  made_at      INTEGER NOT NULL,
  until_at     INTEGER NOT NULL
) STRICT;
CREATE UNIQUE INDEX look_links_by_hash ON look_links (hash);
CREATE INDEX look_links_of_workspace ON look_links (workspace_id, made_at);

ALTER TABLE shared_ports ADD COLUMN public INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE shared_ports DROP COLUMN public;
DROP TABLE look_links;
