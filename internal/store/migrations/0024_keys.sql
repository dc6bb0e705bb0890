-- Keys that git is signed in with by SSH, and commits are signed with: people's, and
-- those of repositories for their prebuilds.

-- +goose Up
CREATE TABLE git_keys (
  person_id TEXT PRIMARY KEY REFERENCES people (id),
  public TEXT NOT NULL, -- a line as in authorized_keys
  sealed BLOB NOT NULL, -- the private half, as OpenSSH writes it
  signs INTEGER NOT NULL DEFAULT 0, -- their commits are signed without being asked for
  made_at INTEGER NOT NULL
) STRICT;
ALTER TABLE repositories ADD COLUMN read_key TEXT NOT NULL DEFAULT ''; -- the public half; read_sealed has the other

-- +goose Down
ALTER TABLE repositories DROP COLUMN read_key;
DROP TABLE git_keys;
