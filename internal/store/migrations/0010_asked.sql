-- What people asked for with a key of their own: done once, however often it is
-- asked. The answer is sealed; NULL while it is under way, or was lost.

-- +goose Up
CREATE TABLE asked (
  person_id TEXT NOT NULL,
  key       TEXT NOT NULL,
  what      BLOB NOT NULL,
  subject   TEXT NOT NULL,
  at        INTEGER NOT NULL,
  answer    BLOB,
  PRIMARY KEY (person_id, key)
) WITHOUT ROWID;
CREATE INDEX asked_at ON asked (at);

-- +goose Down
DROP TABLE asked;
