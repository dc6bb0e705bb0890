-- Secrets that sign in to registries of images, and those that prebuilds are given.

-- +goose Up
CREATE TABLE secrets_next (
  level      TEXT NOT NULL CHECK (level IN ('person', 'repository', 'team', 'house')),
  subject_id TEXT NOT NULL, -- the person, repository or team; 'house'
  name       TEXT NOT NULL,
  form       TEXT NOT NULL CHECK (form IN ('variable', 'file', 'build', 'registry')),
  path       TEXT NOT NULL, -- where a file stands too; '' is nowhere else. Of a registry's: USERNAME@HOST
  mode       INTEGER NOT NULL, -- its permission bits; 0 is 0400
  everywhere INTEGER NOT NULL, -- 1: for all workspaces that its level reaches
  prebuilds  INTEGER NOT NULL, -- 1: the set-up of prepared images is given it too
  branches   TEXT NOT NULL, -- JSON: patterns; [] is every branch
  version    INTEGER NOT NULL,
  sealed     BLOB NOT NULL,
  updated_at INTEGER NOT NULL,
  updated_by TEXT NOT NULL,
  used_at    INTEGER, -- when something was last begun with it, within an hour
  PRIMARY KEY (level, subject_id, name)
) STRICT;
INSERT INTO secrets_next SELECT level, subject_id, name, form, path, mode, everywhere, 0, branches, version, sealed, updated_at, updated_by, used_at FROM secrets;
DROP TABLE secrets;
ALTER TABLE secrets_next RENAME TO secrets;
CREATE TABLE shut_images ( -- images in the yard that their registry shows to those alone who sign in
  name TEXT PRIMARY KEY, -- with its registry, and without tag and digest
  at   INTEGER NOT NULL
) STRICT;

-- +goose Down
DROP TABLE shut_images;
DELETE FROM secret_reach WHERE EXISTS (SELECT 1 FROM secrets s WHERE s.form = 'registry' AND s.level = secret_reach.level AND s.subject_id = secret_reach.subject_id AND s.name = secret_reach.name);
CREATE TABLE secrets_before (
  level      TEXT NOT NULL CHECK (level IN ('person', 'repository', 'team', 'house')),
  subject_id TEXT NOT NULL,
  name       TEXT NOT NULL,
  form       TEXT NOT NULL CHECK (form IN ('variable', 'file', 'build')),
  path       TEXT NOT NULL,
  mode       INTEGER NOT NULL,
  everywhere INTEGER NOT NULL,
  branches   TEXT NOT NULL,
  version    INTEGER NOT NULL,
  sealed     BLOB NOT NULL,
  updated_at INTEGER NOT NULL,
  updated_by TEXT NOT NULL,
  used_at    INTEGER,
  PRIMARY KEY (level, subject_id, name)
) STRICT;
INSERT INTO secrets_before SELECT level, subject_id, name, form, path, mode, everywhere, branches, version, sealed, updated_at, updated_by, used_at FROM secrets WHERE form <> 'registry';
DROP TABLE secrets;
ALTER TABLE secrets_before RENAME TO secrets;
