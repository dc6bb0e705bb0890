-- What of people's home folders goes with them from workspace to workspace.

-- +goose Up
ALTER TABLE profiles ADD COLUMN luggage TEXT NOT NULL DEFAULT '[]'; -- JSON: the paths, from the home folder

CREATE TABLE luggage (
  person_id  TEXT NOT NULL REFERENCES people (id),
  path       TEXT NOT NULL,    -- from the home folder
  mode       INTEGER NOT NULL, -- permission bits
  changed_at INTEGER NOT NULL, -- the file, in the workspace
  bytes      INTEGER NOT NULL, -- of the file, as it is
  sealed     BLOB NOT NULL,    -- empty where it was left out
  left_out   TEXT NOT NULL,    -- why; '' where it is kept
  taken_from TEXT NOT NULL,    -- the workspace
  taken_at   INTEGER NOT NULL,
  UNIQUE (person_id, path)
) STRICT;

-- +goose Down
DROP TABLE luggage;
ALTER TABLE profiles DROP COLUMN luggage;
