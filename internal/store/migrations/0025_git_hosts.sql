-- Git hosts that people let this service in at as them (OAuth 2.0), and what they lend.

-- +goose Up
CREATE TABLE git_hosts (
  host TEXT PRIMARY KEY, -- as in addresses of repositories
  title TEXT NOT NULL,
  authorize TEXT NOT NULL,
  token TEXT NOT NULL,
  device TEXT NOT NULL,
  revoke TEXT NOT NULL,
  repositories TEXT NOT NULL,
  member TEXT NOT NULL,
  client TEXT NOT NULL,
  secret BLOB NOT NULL, -- sealed; empty for a client without one
  scopes TEXT NOT NULL,
  username TEXT NOT NULL, -- as whom git signs in with what was lent
  made_by TEXT NOT NULL,
  created_at INTEGER NOT NULL
) STRICT;
ALTER TABLE git_credentials ADD COLUMN lent INTEGER NOT NULL DEFAULT 0; -- by the host itself, and not typed
ALTER TABLE git_credentials ADD COLUMN refresh BLOB NOT NULL DEFAULT x''; -- sealed
ALTER TABLE git_credentials ADD COLUMN until INTEGER; -- when what was lent ends; NULL for never
ALTER TABLE git_credentials ADD COLUMN taken_back INTEGER; -- since when the host knows nothing of it any more
CREATE INDEX git_credentials_lent ON git_credentials (host) WHERE lent = 1;

-- +goose Down
DROP INDEX git_credentials_lent;
ALTER TABLE git_credentials DROP COLUMN taken_back;
ALTER TABLE git_credentials DROP COLUMN until;
ALTER TABLE git_credentials DROP COLUMN refresh;
ALTER TABLE git_credentials DROP COLUMN lent;
DROP TABLE git_hosts;
