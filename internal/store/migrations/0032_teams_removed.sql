-- Teams that were removed: what was spent under them keeps their names.

-- +goose Up
ALTER TABLE teams ADD COLUMN removed_at INTEGER;

-- +goose Down
ALTER TABLE teams DROP COLUMN removed_at;
