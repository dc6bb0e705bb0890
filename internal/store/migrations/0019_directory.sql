-- What a directory told of people and groups (SCIM).

-- +goose Up
CREATE TABLE directory_accounts (
  person_id   TEXT PRIMARY KEY REFERENCES people (id),
  user_name   TEXT NOT NULL UNIQUE COLLATE NOCASE,
  external_id TEXT NOT NULL,
  given_name  TEXT NOT NULL,
  family_name TEXT NOT NULL,
  created_at  INTEGER NOT NULL,
  changed_at  INTEGER NOT NULL
) STRICT;

CREATE TABLE directory_groups (
  id          TEXT PRIMARY KEY,
  name        TEXT NOT NULL UNIQUE,
  external_id TEXT NOT NULL,
  created_at  INTEGER NOT NULL,
  changed_at  INTEGER NOT NULL
) STRICT;

CREATE TABLE directory_members (
  group_id  TEXT NOT NULL REFERENCES directory_groups (id),
  person_id TEXT NOT NULL REFERENCES people (id),
  PRIMARY KEY (group_id, person_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX directory_members_by_person ON directory_members (person_id);

CREATE INDEX people_by_email ON people (email COLLATE NOCASE); -- whom a directory or a provider tells of by it

-- +goose Down
DROP INDEX people_by_email;
DROP TABLE directory_members;
DROP TABLE directory_groups;
DROP TABLE directory_accounts;
