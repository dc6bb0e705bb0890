-- Launch links: a prepared choice behind one short address, and who came by it.

-- +goose Up
CREATE TABLE launch_links (
  id         TEXT PRIMARY KEY, -- what stands in its address
  title      TEXT NOT NULL,
  choice     TEXT NOT NULL, -- a wire.Prepares, JSON
  repository_id TEXT NOT NULL REFERENCES repositories (id),
  team_id    TEXT REFERENCES teams (id), -- whose people may use it; null: whoever signs in
  people_most INTEGER NOT NULL, -- 0 is no bound
  until_at   INTEGER, -- null: no end
  paused_at  INTEGER, -- null: it can be used
  made_by    TEXT NOT NULL REFERENCES people (id),
  created_at INTEGER NOT NULL
) STRICT;
CREATE INDEX launch_links_by_person ON launch_links (made_by);

CREATE TABLE launch_link_uses (
  link_id      TEXT NOT NULL REFERENCES launch_links (id) ON DELETE CASCADE,
  person_id    TEXT NOT NULL REFERENCES people (id),
  workspace_id TEXT NOT NULL REFERENCES workspaces (id), -- the newest that they have by it
  at           INTEGER NOT NULL,
  PRIMARY KEY (link_id, person_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX launch_link_uses_by_person ON launch_link_uses (person_id);
CREATE INDEX launch_link_uses_by_workspace ON launch_link_uses (workspace_id);

-- +goose Down
DROP TABLE launch_link_uses;
DROP TABLE launch_links;
