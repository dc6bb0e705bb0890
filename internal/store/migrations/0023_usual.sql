-- What people usually want: who they are in git, of terminals and of launches.

-- +goose Up
ALTER TABLE profiles ADD COLUMN usual TEXT NOT NULL DEFAULT '{}'; -- JSON

-- +goose Down
ALTER TABLE profiles DROP COLUMN usual;
