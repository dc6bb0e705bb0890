-- Which further repositories the runs of a plan may fetch, with its maker's
-- credential: names, with blanks between.

-- +goose Up
ALTER TABLE prebuild_plans ADD COLUMN beside TEXT NOT NULL DEFAULT '';

-- +goose Down
SELECT 1;
