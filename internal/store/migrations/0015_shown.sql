-- Ports that people may see who are not signed in, by a link, or all of them;
-- recordings of terminals; what needs somebody, and not now.

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
CREATE INDEX look_links_by_time ON look_links (until_at);

ALTER TABLE shared_ports ADD COLUMN public INTEGER NOT NULL DEFAULT 0;

CREATE TABLE recordings ( -- what they hold lies in files, by their ids
  id           TEXT PRIMARY KEY,
  workspace_id TEXT NOT NULL REFERENCES workspaces (id),
  owner_id     TEXT NOT NULL REFERENCES people (id), -- the workspace's
  terminal     TEXT NOT NULL,
  life         TEXT NOT NULL DEFAULT '', -- of the terminal; '' until it was told
  asked        INTEGER NOT NULL,         -- by its owner; else the house rules have it
  began_at     INTEGER NOT NULL,
  ended_at     INTEGER,
  why          TEXT NOT NULL DEFAULT '', -- it ended
  place        INTEGER NOT NULL DEFAULT 0, -- so much of what was printed is in the file
  bytes        INTEGER NOT NULL DEFAULT 0  -- so long is the file
) STRICT;
CREATE INDEX recordings_of_workspace ON recordings (workspace_id, began_at);
CREATE INDEX recordings_of_owner ON recordings (owner_id, began_at);
CREATE INDEX recordings_by_time ON recordings (began_at);
CREATE INDEX recordings_open ON recordings (workspace_id, terminal) WHERE ended_at IS NULL;
CREATE INDEX recordings_over ON recordings (ended_at) WHERE ended_at IS NOT NULL;

CREATE TABLE quiets ( -- causes that need nobody for a time
  cause     TEXT PRIMARY KEY, -- its key
  reason    TEXT NOT NULL,
  person_id TEXT NOT NULL REFERENCES people (id),
  until_at  INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE quiets;
DROP TABLE recordings;
ALTER TABLE shared_ports DROP COLUMN public;
DROP TABLE look_links;
