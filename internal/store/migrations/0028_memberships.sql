-- Teams beside the one that somebody's workspaces are counted with.

-- +goose Up
CREATE TABLE memberships (
  person_id TEXT NOT NULL REFERENCES people (id),
  team_id   TEXT NOT NULL REFERENCES teams (id),
  leads     INTEGER NOT NULL, -- 1: they lead it
  PRIMARY KEY (person_id, team_id)
) STRICT;
CREATE INDEX memberships_by_team ON memberships (team_id);

-- +goose Down
DROP TABLE memberships;
