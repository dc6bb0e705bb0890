-- What people like, kept for them; webhooks that are paused; repositories that
-- are registered no more.

-- +goose Up
CREATE TABLE kept (
  person_id TEXT NOT NULL REFERENCES people (id),
  name      TEXT NOT NULL,
  value     TEXT NOT NULL, -- JSON
  at        INTEGER NOT NULL,
  PRIMARY KEY (person_id, name)
) STRICT, WITHOUT ROWID;

ALTER TABLE webhooks ADD COLUMN paused_at INTEGER; -- null: it is told

CREATE INDEX workspaces_gone ON workspaces (owner_id, name, created_at) WHERE phase = 'removed'; -- by the name they had

-- What workspaces and prebuilds of it were stays; its name ends with its id then.
ALTER TABLE repositories ADD COLUMN removed_at INTEGER;

-- +goose Down
ALTER TABLE repositories DROP COLUMN removed_at;
ALTER TABLE webhooks DROP COLUMN paused_at;
DROP INDEX workspaces_gone;
DROP TABLE kept;
