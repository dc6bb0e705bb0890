-- What of people's own comes into each of their workspaces.

-- +goose Up
CREATE TABLE profiles (
  person_id  TEXT PRIMARY KEY REFERENCES people (id),
  files_url  TEXT NOT NULL, -- the repository with their files; '' is none
  branch     TEXT NOT NULL, -- '' is its default
  run        TEXT NOT NULL, -- what puts them in place; '' is the usual
  each_start INTEGER NOT NULL, -- 1: they are brought up to date at each start
  changed_at INTEGER NOT NULL
) STRICT;

-- +goose Down
DROP TABLE profiles;
