-- +goose Up
-- Times are microseconds since 1970 in UTC (…_at). Sealed values are encrypted
-- with a key that is kept outside this file.
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;

CREATE TABLE people (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE,
  full_name TEXT NOT NULL,
  email TEXT NOT NULL,
  role TEXT NOT NULL CHECK (role IN ('operator', 'lead', 'developer', 'auditor')),
  password_hash TEXT NOT NULL,
  created_at INTEGER NOT NULL
) STRICT;

CREATE TABLE tokens (
  id TEXT PRIMARY KEY,
  person_id TEXT NOT NULL REFERENCES people (id),
  hash BLOB NOT NULL UNIQUE,
  door TEXT NOT NULL,
  created_at INTEGER NOT NULL,
  expires_at INTEGER NOT NULL
) STRICT;

CREATE TABLE git_credentials (
  person_id TEXT NOT NULL REFERENCES people (id),
  host TEXT NOT NULL,
  username TEXT NOT NULL,
  sealed BLOB NOT NULL,
  updated_at INTEGER NOT NULL,
  PRIMARY KEY (person_id, host)
) STRICT;

CREATE TABLE secrets (
  person_id TEXT NOT NULL REFERENCES people (id),
  name TEXT NOT NULL,
  version INTEGER NOT NULL,
  sealed BLOB NOT NULL,
  updated_at INTEGER NOT NULL,
  PRIMARY KEY (person_id, name)
) STRICT;

CREATE TABLE repositories (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE,
  url TEXT NOT NULL,
  default_branch TEXT NOT NULL,
  created_at INTEGER NOT NULL
) STRICT;

CREATE TABLE workspaces (
  id TEXT PRIMARY KEY,
  owner_id TEXT NOT NULL REFERENCES people (id),
  name TEXT NOT NULL,
  repository_id TEXT NOT NULL REFERENCES repositories (id),
  branch TEXT NOT NULL,
  plan TEXT NOT NULL,                 -- what the body in use is made from, JSON
  next_plan TEXT NOT NULL DEFAULT '', -- what a rebuild is making, JSON
  phase TEXT NOT NULL,
  failed_in TEXT NOT NULL DEFAULT '',
  cause TEXT NOT NULL DEFAULT '',
  wanted TEXT NOT NULL,
  body INTEGER NOT NULL,
  next_body INTEGER NOT NULL DEFAULT 0,
  volume INTEGER NOT NULL,
  next_volume INTEGER NOT NULL DEFAULT 0,
  seeded_volume INTEGER NOT NULL DEFAULT 0, -- the newest volume that holds a whole clone
  subnet INTEGER NOT NULL,            -- which piece of the address range
  steward_token BLOB NOT NULL,        -- sealed
  created_at INTEGER NOT NULL,
  phase_at INTEGER NOT NULL
) STRICT;
CREATE UNIQUE INDEX workspaces_by_name ON workspaces (owner_id, name) WHERE phase <> 'removed';
CREATE UNIQUE INDEX workspaces_by_subnet ON workspaces (subnet) WHERE phase <> 'removed';

CREATE TABLE conditions (
  workspace_id TEXT NOT NULL REFERENCES workspaces (id),
  kind TEXT NOT NULL,
  reason TEXT NOT NULL,
  since_at INTEGER NOT NULL,
  PRIMARY KEY (workspace_id, kind)
) STRICT;

CREATE TABLE sheets (
  id TEXT PRIMARY KEY,
  workspace_id TEXT NOT NULL REFERENCES workspaces (id),
  number INTEGER NOT NULL, -- from 1, within the workspace
  kind TEXT NOT NULL,
  started_at INTEGER NOT NULL,
  ended_at INTEGER,
  outcome TEXT NOT NULL DEFAULT '',
  cause TEXT NOT NULL DEFAULT '',
  UNIQUE (workspace_id, number)
) STRICT;

CREATE TABLE steps (
  sheet_id TEXT NOT NULL REFERENCES sheets (id),
  number INTEGER NOT NULL, -- from 1, within the sheet, in the order of starting
  parent INTEGER NOT NULL DEFAULT 0,
  key TEXT NOT NULL,       -- what identifies the step when it is done again
  title TEXT NOT NULL,
  body INTEGER NOT NULL,   -- the body it worked on
  attempt INTEGER NOT NULL,
  started_at INTEGER NOT NULL,
  ended_at INTEGER,
  cached INTEGER NOT NULL DEFAULT 0,
  outcome TEXT NOT NULL DEFAULT '',
  cause TEXT NOT NULL DEFAULT '',
  PRIMARY KEY (sheet_id, number),
  UNIQUE (sheet_id, key)
) STRICT;

-- The journal: append-only. hash = SHA-256 (prev_hash || body); body holds the
-- canonical bytes of the entry as they were hashed.
CREATE TABLE journal (
  number INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  kind TEXT NOT NULL,
  subject TEXT NOT NULL,
  owner_id TEXT NOT NULL, -- whose matter it is; for who may see it
  body BLOB NOT NULL,
  prev_hash BLOB NOT NULL,
  hash BLOB NOT NULL
) STRICT;
CREATE INDEX journal_by_subject ON journal (subject, number);
-- +goose StatementBegin
CREATE TRIGGER journal_no_update BEFORE UPDATE ON journal BEGIN SELECT RAISE (ABORT, 'the journal is append-only'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER journal_no_delete BEFORE DELETE ON journal BEGIN SELECT RAISE (ABORT, 'the journal is append-only'); END;
-- +goose StatementEnd

-- +goose Down
DROP TABLE journal; DROP TABLE steps; DROP TABLE sheets; DROP TABLE conditions; DROP TABLE workspaces;
DROP TABLE repositories; DROP TABLE secrets; DROP TABLE git_credentials; DROP TABLE tokens; DROP TABLE people; DROP TABLE meta;
