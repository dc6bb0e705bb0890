-- Whom an enrolment link is for, where that was said: the account it sets up has that.

-- +goose Up
ALTER TABLE enrolments ADD COLUMN name TEXT NOT NULL DEFAULT '';
ALTER TABLE enrolments ADD COLUMN full_name TEXT NOT NULL DEFAULT '';
ALTER TABLE enrolments ADD COLUMN email TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE enrolments DROP COLUMN email;
ALTER TABLE enrolments DROP COLUMN full_name;
ALTER TABLE enrolments DROP COLUMN name;
