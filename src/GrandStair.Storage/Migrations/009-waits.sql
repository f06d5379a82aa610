-- The limit that a run waits for, so that it is due as soon as a place becomes free.
ALTER TABLE runs ADD COLUMN waits_for TEXT;
CREATE INDEX runs_waiting ON runs (waits_for, due_at) WHERE waits_for IS NOT NULL;

-- Whether the last look heard nothing: such runs are claimed apart, so that they keep no machine that answers waiting.
ALTER TABLE runs ADD COLUMN silent BIGINT NOT NULL DEFAULT 0;

-- Which service has each duty that only one may have at a time.
CREATE TABLE duty_leases (name TEXT PRIMARY KEY, holder TEXT NOT NULL, lease_until BIGINT NOT NULL);
-- What a worker asks for to choose the runs that it claims next.
CREATE INDEX runs_due ON runs (silent, due_at, worker, plan, machine_id, id) WHERE due_at IS NOT NULL;
