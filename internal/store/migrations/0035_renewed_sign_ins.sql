-- Other values of a sign-in than the one that it has: the one that it is to have, from
-- when that is used first, and the one that it had, for as long as what begun with it
-- may still ask.

-- +goose Up
CREATE TABLE token_values (
  hash     BLOB PRIMARY KEY,
  token_id TEXT NOT NULL REFERENCES tokens (id) ON DELETE CASCADE,
  next     INTEGER NOT NULL, -- 1: it is to have it
  until    INTEGER NOT NULL
) STRICT;
CREATE INDEX token_values_by_token ON token_values (token_id);

-- +goose Down
DROP TABLE token_values;
