CREATE TABLE calendars (name TEXT PRIMARY KEY, body TEXT NOT NULL, hash TEXT NOT NULL, loaded BIGINT NOT NULL, loaded_by TEXT NOT NULL);

CREATE TABLE plan_revisions (
  plan TEXT NOT NULL REFERENCES plans (name), revision BIGINT NOT NULL, body TEXT NOT NULL, catalogue_hash TEXT NOT NULL, at BIGINT NOT NULL, by_whom TEXT NOT NULL, reason TEXT NOT NULL,
  PRIMARY KEY (plan, revision));
INSERT INTO plan_revisions (plan, revision, body, catalogue_hash, at, by_whom, reason) SELECT name, revision, body, catalogue_hash, created, created_by, '' FROM plans;
ALTER TABLE plans ADD COLUMN revised_by TEXT NOT NULL DEFAULT '';
UPDATE plans SET revised_by = created_by;
ALTER TABLE plans ADD COLUMN coverages TEXT NOT NULL DEFAULT '[]';

ALTER TABLE plan_members ADD COLUMN planned_start BIGINT;
ALTER TABLE plan_members ADD COLUMN slot_stage BIGINT;
ALTER TABLE plan_members ADD COLUMN slot_crew TEXT;
ALTER TABLE plan_members ADD COLUMN change TEXT;
ALTER TABLE plan_members ADD COLUMN missed BIGINT NOT NULL DEFAULT 0;
ALTER TABLE plan_members ADD COLUMN moved_reason TEXT;
ALTER TABLE plan_members ADD COLUMN moved_by TEXT;

CREATE TABLE plan_approvals (
  plan TEXT NOT NULL REFERENCES plans (name), subject TEXT NOT NULL, intent TEXT NOT NULL, revision BIGINT NOT NULL, by_whom TEXT NOT NULL, at BIGINT NOT NULL, reason TEXT NOT NULL,
  PRIMARY KEY (plan, subject, intent));
