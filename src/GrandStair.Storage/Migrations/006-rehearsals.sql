CREATE TABLE rehearsals (
  id BIGINT PRIMARY KEY, plan TEXT NOT NULL REFERENCES plans (name), revision BIGINT NOT NULL, kind TEXT NOT NULL, state TEXT NOT NULL, asked_for TEXT NOT NULL,
  done BIGINT NOT NULL, total BIGINT NOT NULL, result TEXT, why TEXT, position BIGINT NOT NULL, asked_by TEXT NOT NULL, asked BIGINT NOT NULL, ended BIGINT, beat BIGINT NOT NULL);
CREATE INDEX rehearsals_plan ON rehearsals (plan, id);
INSERT INTO counters (name, last) VALUES ('rehearsal', 0);
ALTER TABLE plan_members ADD COLUMN readied BIGINT;
