-- One verb for many workspaces, and what came of it with each.

-- +goose Up
CREATE TABLE operations (
  id           TEXT PRIMARY KEY,
  person_id    TEXT NOT NULL,           -- who asked
  grant_json   TEXT NOT NULL,           -- what their sign-in reached then; '' is everything of theirs
  token_id     TEXT NOT NULL,           -- the token by which it was asked; '' where by a sign-in
  verb         TEXT NOT NULL,
  reason       TEXT NOT NULL,
  options      TEXT NOT NULL,           -- JSON
  total        INTEGER NOT NULL,
  made_at      INTEGER NOT NULL,
  ended_at     INTEGER,
  cancelled_by TEXT NOT NULL DEFAULT '' -- who cancelled it
);
CREATE INDEX operations_made ON operations (made_at);
CREATE INDEX operations_open ON operations (made_at) WHERE ended_at IS NULL;
CREATE INDEX operations_ended ON operations (ended_at);
CREATE TABLE outcomes (
  operation_id TEXT NOT NULL REFERENCES operations (id) ON DELETE CASCADE,
  number       INTEGER NOT NULL,
  workspace_id TEXT NOT NULL,
  name         TEXT NOT NULL,           -- NAME.OWNER, as it was called then
  state        TEXT NOT NULL,
  kind         TEXT NOT NULL DEFAULT '', -- of the problem
  detail       TEXT NOT NULL DEFAULT '',
  goal         INTEGER NOT NULL DEFAULT 0, -- the body that a rebuild was to bring
  at           INTEGER NOT NULL,
  PRIMARY KEY (operation_id, number)
) WITHOUT ROWID;
CREATE INDEX outcomes_by_workspace ON outcomes (workspace_id);
CREATE INDEX outcomes_by_state ON outcomes (operation_id, state);

-- +goose Down
DROP TABLE outcomes; DROP TABLE operations;
