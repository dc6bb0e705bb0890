-- +goose Up
CREATE TABLE teams (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE,
  created_at INTEGER NOT NULL
) STRICT;

ALTER TABLE people ADD COLUMN team_id TEXT REFERENCES teams (id);
ALTER TABLE people ADD COLUMN closed_at INTEGER; -- since when they may not sign in

-- Links by which people set up their account, or a new password. Only a hash
-- of what the link holds is kept.
CREATE TABLE enrolments (
  id TEXT PRIMARY KEY,
  hash BLOB NOT NULL UNIQUE,
  role TEXT NOT NULL,
  team_id TEXT REFERENCES teams (id),
  person_id TEXT REFERENCES people (id), -- set: a new password for them
  made_by TEXT NOT NULL,
  created_at INTEGER NOT NULL,
  expires_at INTEGER NOT NULL,
  used_at INTEGER
) STRICT;

ALTER TABLE tokens ADD COLUMN name TEXT NOT NULL DEFAULT ''; -- what its owner calls it
ALTER TABLE tokens ADD COLUMN last_used_at INTEGER;
CREATE INDEX tokens_by_person ON tokens (person_id);

-- Every version of the house rules; the newest is in force.
CREATE TABLE rules (
  version INTEGER PRIMARY KEY,
  document TEXT NOT NULL,
  author_id TEXT NOT NULL,
  reason TEXT NOT NULL,
  at INTEGER NOT NULL
) STRICT;

DROP TABLE secrets;
CREATE TABLE secrets (
  level TEXT NOT NULL CHECK (level IN ('person', 'repository')),
  subject_id TEXT NOT NULL, -- the person or repository
  name TEXT NOT NULL,
  form TEXT NOT NULL CHECK (form IN ('variable', 'file')),
  everywhere INTEGER NOT NULL, -- a person's: for all their workspaces
  version INTEGER NOT NULL,
  sealed BLOB NOT NULL,
  updated_at INTEGER NOT NULL,
  updated_by TEXT NOT NULL,
  PRIMARY KEY (level, subject_id, name)
) STRICT;
CREATE TABLE secret_repositories ( -- those a person's secret is given to
  person_id TEXT NOT NULL,
  name TEXT NOT NULL,
  repository_id TEXT NOT NULL REFERENCES repositories (id),
  PRIMARY KEY (person_id, name, repository_id)
) STRICT;

ALTER TABLE repositories ADD COLUMN push_key BLOB NOT NULL DEFAULT x''; -- sealed; what the git host signs with

ALTER TABLE workspaces ADD COLUMN kind TEXT NOT NULL DEFAULT 'person'; -- or prebuild: a run of a plan
ALTER TABLE workspaces ADD COLUMN size TEXT NOT NULL DEFAULT '';
ALTER TABLE workspaces ADD COLUMN cores_milli INTEGER NOT NULL DEFAULT 0; -- as the rules had it when it was given
ALTER TABLE workspaces ADD COLUMN memory_bytes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE workspaces ADD COLUMN disk_bytes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE workspaces ADD COLUMN rest_after_s INTEGER NOT NULL DEFAULT 0; -- asked for; 0 is the rules' usual
ALTER TABLE workspaces ADD COLUMN port_key TEXT NOT NULL DEFAULT ''; -- what its ports' host names begin with
ALTER TABLE workspaces ADD COLUMN work TEXT NOT NULL DEFAULT ''; -- JSON: what existed nowhere else when it stopped
CREATE INDEX workspaces_by_phase ON workspaces (phase, owner_id) WHERE phase <> 'removed';
CREATE UNIQUE INDEX workspaces_by_port_key ON workspaces (port_key) WHERE port_key <> '';

CREATE TABLE holds (
  workspace_id TEXT PRIMARY KEY REFERENCES workspaces (id),
  until_at INTEGER NOT NULL,
  why TEXT NOT NULL,
  by_id TEXT NOT NULL,
  at INTEGER NOT NULL
) STRICT;

CREATE TABLE shared_ports ( -- those everybody signed in may visit
  workspace_id TEXT NOT NULL REFERENCES workspaces (id),
  port INTEGER NOT NULL,
  PRIMARY KEY (workspace_id, port)
) STRICT;

CREATE TABLE prebuild_plans (
  id TEXT PRIMARY KEY,
  repository_id TEXT NOT NULL REFERENCES repositories (id),
  branch TEXT NOT NULL,
  on_push INTEGER NOT NULL,
  timetable TEXT NOT NULL,
  keep INTEGER NOT NULL,
  made_by TEXT NOT NULL REFERENCES people (id), -- whose git credential reads the repository
  created_at INTEGER NOT NULL,
  due TEXT NOT NULL DEFAULT '', -- why another run is due when the one under way has ended
  UNIQUE (repository_id, branch)
) STRICT;

CREATE TABLE prebuild_runs (
  id TEXT PRIMARY KEY,
  plan_id TEXT NOT NULL REFERENCES prebuild_plans (id) ON DELETE CASCADE,
  number INTEGER NOT NULL, -- from 1, within the plan
  workspace_id TEXT NOT NULL REFERENCES workspaces (id), -- what made it
  reason TEXT NOT NULL,
  commit_id TEXT NOT NULL,
  fingerprint TEXT NOT NULL,
  image TEXT NOT NULL DEFAULT '',
  outcome TEXT NOT NULL DEFAULT '',
  cause TEXT NOT NULL DEFAULT '',
  started_at INTEGER NOT NULL,
  ended_at INTEGER,
  dropped_at INTEGER, -- since when the image is not kept any more
  UNIQUE (plan_id, number)
) STRICT;
CREATE INDEX prebuild_runs_by_workspace ON prebuild_runs (workspace_id);

-- Metered time: what the journal says, brought into intervals in the same
-- transaction. to_at is null while it goes on.
CREATE TABLE intervals (
  id INTEGER PRIMARY KEY,
  workspace_id TEXT NOT NULL REFERENCES workspaces (id),
  owner_id TEXT NOT NULL,
  team_id TEXT NOT NULL,
  repository_id TEXT NOT NULL,
  kind TEXT NOT NULL,
  size TEXT NOT NULL,
  disk_bytes INTEGER NOT NULL,
  from_at INTEGER NOT NULL,
  to_at INTEGER
) STRICT;
CREATE UNIQUE INDEX intervals_open ON intervals (workspace_id, kind) WHERE to_at IS NULL;
CREATE INDEX intervals_by_workspace ON intervals (workspace_id, from_at);
CREATE INDEX intervals_by_end ON intervals (to_at);

-- +goose Down
DROP TABLE intervals; DROP TABLE prebuild_runs; DROP TABLE prebuild_plans; DROP TABLE shared_ports; DROP TABLE holds;
