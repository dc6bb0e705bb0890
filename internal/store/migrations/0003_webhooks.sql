-- +goose Up
-- Addresses that are told of journal entries, in their order.
CREATE TABLE webhooks (
  id TEXT PRIMARY KEY,
  url TEXT NOT NULL,
  kinds TEXT NOT NULL, -- JSON: what the kinds of entries begin with; an empty list is all
  key BLOB NOT NULL, -- sealed; what deliveries are marked with
  made_by TEXT NOT NULL,
  created_at INTEGER NOT NULL,
  cursor INTEGER NOT NULL, -- the newest entry that was delivered or passed over
  failing_since INTEGER,
  problem TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE TABLE deliveries (
  id INTEGER PRIMARY KEY,
  webhook_id TEXT NOT NULL REFERENCES webhooks (id) ON DELETE CASCADE,
  entry INTEGER NOT NULL, -- 0 is a test
  attempt INTEGER NOT NULL,
  at INTEGER NOT NULL,
  took_ms INTEGER NOT NULL,
  status INTEGER NOT NULL, -- of the answer; 0 where there was none
  problem TEXT NOT NULL
) STRICT;
CREATE INDEX deliveries_by_webhook ON deliveries (webhook_id, id);

-- +goose Down
DROP TABLE deliveries; DROP TABLE webhooks;
