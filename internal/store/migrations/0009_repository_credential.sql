-- What a repository's prebuilds sign in to its git host with, sealed.

-- +goose Up
ALTER TABLE repositories ADD COLUMN read_username TEXT NOT NULL DEFAULT '';
ALTER TABLE repositories ADD COLUMN read_sealed BLOB NOT NULL DEFAULT x'';

-- +goose Down
SELECT 1;
