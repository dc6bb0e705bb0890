-- Launch links by which guests set up their accounts: for how long each has access, and
-- how many have.

-- +goose Up
ALTER TABLE launch_links ADD COLUMN guest_s INTEGER NOT NULL DEFAULT 0;
ALTER TABLE launch_links ADD COLUMN guests INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE launch_links DROP COLUMN guests;
ALTER TABLE launch_links DROP COLUMN guest_s;
