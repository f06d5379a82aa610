ALTER TABLE calendars ADD COLUMN events BIGINT NOT NULL DEFAULT 0;

CREATE TABLE plan_intent_changes (
  plan TEXT NOT NULL REFERENCES plans (name), number BIGINT NOT NULL, at BIGINT NOT NULL, by_whom TEXT NOT NULL, what TEXT NOT NULL, PRIMARY KEY (plan, number));
INSERT INTO plan_intent_changes (plan, number, at, by_whom, what) SELECT plan, revision, at, by_whom, 'revision' FROM plan_revisions;
ALTER TABLE plan_revisions ADD COLUMN consent TEXT NOT NULL DEFAULT '';
ALTER TABLE plans ADD COLUMN first_intent TEXT NOT NULL DEFAULT '';

ALTER TABLE plan_approvals RENAME TO plan_approvals_before;
CREATE TABLE plan_approvals (
  plan TEXT NOT NULL REFERENCES plans (name), number BIGINT NOT NULL, subject TEXT NOT NULL, intent TEXT NOT NULL, revision BIGINT NOT NULL, changes BIGINT NOT NULL,
  by_whom TEXT NOT NULL, at BIGINT NOT NULL, reason TEXT NOT NULL, PRIMARY KEY (plan, number));
INSERT INTO plan_approvals (plan, number, subject, intent, revision, changes, by_whom, at, reason)
  SELECT plan, ROW_NUMBER() OVER (PARTITION BY plan ORDER BY at), subject, intent, revision, revision, by_whom, at, reason FROM plan_approvals_before;
DROP TABLE plan_approvals_before;

ALTER TABLE acknowledgements ADD COLUMN covers TEXT NOT NULL DEFAULT '';

ALTER TABLE tokens ADD COLUMN parent_token BIGINT;
ALTER TABLE tokens ADD COLUMN parent_session BIGINT;
ALTER TABLE sessions ADD COLUMN parent_token BIGINT;
