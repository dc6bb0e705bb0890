-- Secrets of teams and of the house, for named branches, at places of their own;
-- who has used them last.

-- +goose Up
CREATE TABLE secrets_next (
  level      TEXT NOT NULL CHECK (level IN ('person', 'repository', 'team', 'house')),
  subject_id TEXT NOT NULL, -- the person, repository or team; 'house'
  name       TEXT NOT NULL,
  form       TEXT NOT NULL CHECK (form IN ('variable', 'file', 'build')),
  path       TEXT NOT NULL, -- where a file stands too; '' is nowhere else
  mode       INTEGER NOT NULL, -- its permission bits; 0 is 0400
  everywhere INTEGER NOT NULL, -- 1: for all workspaces that its level reaches
  branches   TEXT NOT NULL, -- JSON: patterns; [] is every branch
  version    INTEGER NOT NULL,
  sealed     BLOB NOT NULL,
  updated_at INTEGER NOT NULL,
  updated_by TEXT NOT NULL,
  used_at    INTEGER, -- when something was last begun with it, within an hour
  PRIMARY KEY (level, subject_id, name)
) STRICT;
INSERT INTO secrets_next SELECT level, subject_id, name, form, '', 0, everywhere, '[]', version, sealed, updated_at, updated_by, NULL FROM secrets;
CREATE TABLE secret_reach ( -- the repositories that one is given to which is not given everywhere
  level         TEXT NOT NULL,
  subject_id    TEXT NOT NULL,
  name          TEXT NOT NULL,
  repository_id TEXT NOT NULL REFERENCES repositories (id),
  PRIMARY KEY (level, subject_id, name, repository_id)
) STRICT;
INSERT INTO secret_reach SELECT 'person', person_id, name, repository_id FROM secret_repositories;
DROP TABLE secret_repositories;
DROP TABLE secrets;
ALTER TABLE secrets_next RENAME TO secrets;
CREATE INDEX secret_reach_by_repository ON secret_reach (repository_id);

-- +goose Down
DROP TABLE secret_reach;
DROP TABLE secrets;
