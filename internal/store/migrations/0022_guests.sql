-- People whose access ends by itself, and what it is for.

-- +goose Up
CREATE TABLE guests (
  person_id    TEXT PRIMARY KEY REFERENCES people (id),
  until        INTEGER NOT NULL,
  repositories TEXT NOT NULL, -- JSON: the ids of those they may work in
  sizes        TEXT NOT NULL, -- JSON: the sizes they may have; [] is every size
  by_id        TEXT NOT NULL, -- who brought them in, or changed it last
  told         INTEGER NOT NULL DEFAULT 0 -- 1: it was told that it ends soon
) STRICT;
ALTER TABLE enrolments ADD COLUMN guest TEXT NOT NULL DEFAULT ''; -- JSON: what it is for, where it brings a guest in

-- +goose Down
ALTER TABLE enrolments DROP COLUMN guest;
DROP TABLE guests;
