-- Passkeys: what people sign in with in place of a password (WebAuthn).

-- +goose Up
CREATE TABLE passkeys (
  id TEXT PRIMARY KEY, -- the credential's, in base64url
  person_id TEXT NOT NULL REFERENCES people (id),
  name TEXT NOT NULL,
  credential TEXT NOT NULL, -- JSON; it holds nothing secret
  made_at INTEGER NOT NULL,
  used_at INTEGER
) STRICT;
CREATE INDEX passkeys_person ON passkeys (person_id);

-- +goose Down
DROP TABLE passkeys;
