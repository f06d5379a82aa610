ALTER TABLE plan_members ADD COLUMN appointed BIGINT;
ALTER TABLE plan_members ADD COLUMN appointed_by TEXT;
ALTER TABLE plan_members ADD COLUMN appointed_reason TEXT;

CREATE TABLE addresses (
  id BIGINT PRIMARY KEY, hash TEXT NOT NULL UNIQUE, plan TEXT NOT NULL REFERENCES plans (name), kind TEXT NOT NULL, of_whom TEXT NOT NULL, sites TEXT NOT NULL,
  made BIGINT NOT NULL, made_by TEXT NOT NULL, ended BIGINT, last_used BIGINT);
CREATE INDEX addresses_plan ON addresses (plan, id);
INSERT INTO counters (name, last) VALUES ('address', 0);

ALTER TABLE plan_members ADD COLUMN laid_start BIGINT;
ALTER TABLE plan_members ADD COLUMN laid_end BIGINT;
ALTER TABLE plan_members ADD COLUMN laid_stage BIGINT;
ALTER TABLE plan_members ADD COLUMN laid_crew TEXT;
UPDATE plan_members SET laid_start = planned_start, laid_end = planned_end;

ALTER TABLE plan_members ADD COLUMN lapsed BIGINT;
