-- Identity providers, who people are there, and where a sign-in came from.

-- +goose Up
CREATE TABLE providers (
  id         TEXT PRIMARY KEY,
  name       TEXT NOT NULL UNIQUE,
  title      TEXT NOT NULL,
  issuer     TEXT NOT NULL,
  client     TEXT NOT NULL,
  secret     BLOB NOT NULL, -- sealed
  claim      TEXT NOT NULL, -- the one that has the groups; '' is none
  scopes     TEXT NOT NULL, -- asked for beside the usual, parted by spaces
  made_by    TEXT NOT NULL,
  created_at INTEGER NOT NULL
) STRICT;

CREATE TABLE identities (
  provider_id TEXT NOT NULL REFERENCES providers (id),
  subject     TEXT NOT NULL,
  person_id   TEXT NOT NULL REFERENCES people (id),
  at          INTEGER NOT NULL, -- when they came by it last
  PRIMARY KEY (provider_id, subject)
) STRICT, WITHOUT ROWID;
CREATE INDEX identities_by_person ON identities (person_id);

-- What signed out at a provider is told once: the names of logout tokens, for a while.
CREATE TABLE logouts (
  provider_id TEXT NOT NULL,
  name        TEXT NOT NULL,
  at          INTEGER NOT NULL,
  PRIMARY KEY (provider_id, name)
) STRICT, WITHOUT ROWID;

ALTER TABLE tokens ADD COLUMN provider_id TEXT NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN provider_session TEXT NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN place TEXT NOT NULL DEFAULT '';  -- the address that it was made from
ALTER TABLE tokens ADD COLUMN client TEXT NOT NULL DEFAULT ''; -- what the client called itself
CREATE INDEX tokens_by_provider ON tokens (provider_id, provider_session) WHERE provider_id <> '';

-- +goose Down
DROP INDEX tokens_by_provider;
ALTER TABLE tokens DROP COLUMN client;
ALTER TABLE tokens DROP COLUMN place;
ALTER TABLE tokens DROP COLUMN provider_session;
ALTER TABLE tokens DROP COLUMN provider_id;
DROP TABLE logouts;
DROP TABLE identities;
DROP TABLE providers;
