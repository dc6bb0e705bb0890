-- +goose Up
-- What a body is made from, in a table of its own: written once, shared by all
-- that are made from the same, and never changed.
CREATE TABLE plans (
  id TEXT PRIMARY KEY, -- SHA-256 of the body, in hexadecimal; of before this table was there, the workspace's id
  body TEXT NOT NULL,  -- JSON
  prepared_run TEXT NOT NULL DEFAULT '' -- the run whose image it takes
) STRICT;
CREATE INDEX plans_by_run ON plans (prepared_run) WHERE prepared_run <> '';
CREATE TABLE plan_images ( -- the fingerprints of what a plan has built
  fingerprint TEXT NOT NULL,
  plan_id TEXT NOT NULL REFERENCES plans (id) ON DELETE CASCADE,
  PRIMARY KEY (fingerprint, plan_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX plan_images_by_plan ON plan_images (plan_id);

INSERT INTO plans (id, body, prepared_run) SELECT id, plan, COALESCE(plan ->> '$.prepared.run', '') FROM workspaces WHERE phase <> 'removed' OR kind = 'prebuild';
INSERT INTO plans (id, body, prepared_run) SELECT id || '-next', next_plan, COALESCE(next_plan ->> '$.prepared.run', '') FROM workspaces WHERE phase <> 'removed' AND next_plan <> '';
INSERT OR IGNORE INTO plan_images SELECT body ->> '$.fingerprint', id FROM plans WHERE COALESCE(body ->> '$.fingerprint', '') <> '';
INSERT OR IGNORE INTO plan_images SELECT s.value ->> '$.fingerprint', p.id FROM plans p, json_each(p.body, '$.definition.compose.services') s WHERE COALESCE(s.value ->> '$.fingerprint', '') <> '';

ALTER TABLE prebuild_runs ADD COLUMN user TEXT NOT NULL DEFAULT ''; -- who works in its image
UPDATE prebuild_runs SET user = COALESCE((SELECT w.plan ->> '$.definition.user' FROM workspaces w WHERE w.id = prebuild_runs.workspace_id), '');

-- How long steps took, the newest of each kind; key '' is a whole launch, and
-- cached tells then whether it began with a prepared image.
CREATE TABLE step_times (
  id INTEGER PRIMARY KEY,
  repository_id TEXT NOT NULL REFERENCES repositories (id),
  kind TEXT NOT NULL, -- of the sheet
  key TEXT NOT NULL,
  cached INTEGER NOT NULL,
  took_us INTEGER NOT NULL
) STRICT;
CREATE INDEX step_times_by_step ON step_times (repository_id, kind, key, cached, id);
INSERT INTO step_times (repository_id, kind, key, cached, took_us) SELECT repository_id, kind, key, cached, took FROM (
  SELECT w.repository_id, h.kind, s.key, s.cached, s.ended_at, s.ended_at - s.started_at AS took, ROW_NUMBER() OVER (PARTITION BY w.repository_id, h.kind, s.key, s.cached ORDER BY s.ended_at DESC) AS n
  FROM workspaces w JOIN sheets h ON h.workspace_id = w.id JOIN steps s ON s.sheet_id = h.id WHERE s.parent = 0 AND s.outcome = 'done' AND s.ended_at IS NOT NULL) WHERE n <= 50 ORDER BY ended_at;
INSERT INTO step_times (repository_id, kind, key, cached, took_us) SELECT repository_id, 'launch', '', prepared, took FROM (
  SELECT w.repository_id, w.plan ->> '$.prepared.run' IS NOT NULL AS prepared, h.ended_at, h.ended_at - h.started_at AS took, ROW_NUMBER() OVER (PARTITION BY w.repository_id, w.plan ->> '$.prepared.run' IS NOT NULL ORDER BY h.started_at DESC) AS n
  FROM workspaces w JOIN sheets h ON h.workspace_id = w.id AND h.number = 1 WHERE w.kind = 'person' AND h.kind = 'launch' AND h.outcome = 'done') WHERE n <= 50 ORDER BY ended_at;

ALTER TABLE workspaces ADD COLUMN plan_id TEXT NOT NULL DEFAULT '';      -- what the body in use is made from; '' once it is removed
ALTER TABLE workspaces ADD COLUMN next_plan_id TEXT NOT NULL DEFAULT ''; -- what a rebuild is making
ALTER TABLE workspaces ADD COLUMN adopted TEXT NOT NULL DEFAULT '';      -- the container of others that it is
UPDATE workspaces SET plan_id = id, adopted = COALESCE(plan ->> '$.adopted.container', '') WHERE phase <> 'removed' OR kind = 'prebuild';
UPDATE workspaces SET next_plan_id = id || '-next' WHERE phase <> 'removed' AND next_plan <> '';
ALTER TABLE workspaces DROP COLUMN plan;
ALTER TABLE workspaces DROP COLUMN next_plan;
CREATE INDEX workspaces_by_plan ON workspaces (plan_id) WHERE plan_id <> '';
CREATE INDEX workspaces_by_next_plan ON workspaces (next_plan_id) WHERE next_plan_id <> '';
CREATE INDEX workspaces_by_repository ON workspaces (repository_id, branch) WHERE phase <> 'removed';
CREATE INDEX workspaces_by_container ON workspaces (adopted) WHERE adopted <> '' AND phase <> 'removed';
CREATE INDEX workspaces_living ON workspaces (name, owner_id) WHERE phase <> 'removed';

ALTER TABLE repositories ADD COLUMN team_id TEXT REFERENCES teams (id); -- whose money its prebuilds are
UPDATE intervals SET team_id = '' WHERE workspace_id IN (SELECT id FROM workspaces WHERE kind = 'prebuild');

-- Metered time that is over, summed: by workspace, by what its price depends
-- on, and by the version of the house rules whose rates were in force.
CREATE TABLE totals (
  workspace_id TEXT NOT NULL REFERENCES workspaces (id),
  kind TEXT NOT NULL,
  size TEXT NOT NULL,
  disk_bytes INTEGER NOT NULL,
  version INTEGER NOT NULL,
  us INTEGER NOT NULL,
  PRIMARY KEY (workspace_id, kind, size, disk_bytes, version)
) STRICT, WITHOUT ROWID;
INSERT INTO totals SELECT workspace_id, kind, size, disk_bytes, version, SUM(us) FROM (
  SELECT i.workspace_id, i.kind, i.size, i.disk_bytes, v.version, MIN(i.to_at, v.ends) - MAX(i.from_at, v.begins) AS us FROM intervals i,
    (SELECT version, CASE WHEN ROW_NUMBER() OVER (ORDER BY version) = 1 THEN 0 ELSE at END AS begins, COALESCE(LEAD(at) OVER (ORDER BY version), 9223372036854775807) AS ends FROM rules) v
  WHERE i.to_at IS NOT NULL) WHERE us > 0 GROUP BY 1, 2, 3, 4, 5;
DROP INDEX intervals_by_workspace;
CREATE INDEX intervals_by_workspace ON intervals (workspace_id, to_at);

CREATE INDEX journal_by_owner ON journal (owner_id, number);
CREATE INDEX journal_by_kind ON journal (kind, number);
CREATE INDEX journal_by_time ON journal (at);
ALTER TABLE journal ADD COLUMN actor TEXT GENERATED ALWAYS AS (CAST(body AS TEXT) ->> '$.actor') VIRTUAL;
CREATE INDEX journal_by_actor ON journal (actor, number);
