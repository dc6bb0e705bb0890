-- What a token may do of what its person may; accounts of programs; whom it was
-- told that a token expires.

-- +goose Up
ALTER TABLE tokens ADD COLUMN grant_json TEXT NOT NULL DEFAULT '{}';
ALTER TABLE tokens ADD COLUMN made_by TEXT NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN reminded INTEGER NOT NULL DEFAULT 0;
CREATE INDEX tokens_expiring ON tokens (expires_at) WHERE door = 'token' AND reminded = 0;
ALTER TABLE people ADD COLUMN program INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE people DROP COLUMN program;
DROP INDEX tokens_expiring;
ALTER TABLE tokens DROP COLUMN reminded;
ALTER TABLE tokens DROP COLUMN made_by;
ALTER TABLE tokens DROP COLUMN grant_json;
