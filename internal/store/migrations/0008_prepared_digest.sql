-- What a prepared image is, beside what it is called.

-- +goose Up
ALTER TABLE prebuild_runs ADD COLUMN digest TEXT NOT NULL DEFAULT '';

-- +goose Down
SELECT 1;
