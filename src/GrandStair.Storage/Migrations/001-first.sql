CREATE TABLE counters (name TEXT PRIMARY KEY, last BIGINT NOT NULL);
INSERT INTO counters (name, last) VALUES ('machine', 0), ('run', 0), ('feed', 0), ('fleet', 0), ('audit', 0), ('worker', 0);

CREATE TABLE settings (name TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE clock (id BIGINT PRIMARY KEY, anchor_real BIGINT NOT NULL, anchor_domain BIGINT NOT NULL, pace DOUBLE PRECISION NOT NULL);

CREATE TABLE machines (
  id BIGINT PRIMARY KEY, name TEXT NOT NULL, site TEXT NOT NULL, group_name TEXT NOT NULL, owner TEXT NOT NULL, tags TEXT NOT NULL,
  link_kind TEXT NOT NULL, address TEXT NOT NULL, port BIGINT NOT NULL, user_name TEXT NOT NULL, host_key TEXT,
  created BIGINT NOT NULL, changed BIGINT NOT NULL);
CREATE INDEX machines_changed ON machines (changed);
CREATE TABLE identifiers (kind TEXT NOT NULL, value TEXT NOT NULL, machine_id BIGINT NOT NULL REFERENCES machines (id), PRIMARY KEY (kind, value));
CREATE TABLE readings (machine_id BIGINT NOT NULL REFERENCES machines (id), source TEXT NOT NULL, document TEXT NOT NULL, PRIMARY KEY (machine_id, source));
CREATE TABLE reading_history (machine_id BIGINT NOT NULL, source TEXT NOT NULL, key_name TEXT NOT NULL, seen BIGINT NOT NULL, received BIGINT NOT NULL, state TEXT NOT NULL, value TEXT, why TEXT);
CREATE INDEX reading_history_of ON reading_history (machine_id, key_name);

CREATE TABLE catalogues (hash TEXT PRIMARY KEY, product TEXT NOT NULL, body TEXT NOT NULL, added BIGINT NOT NULL);

CREATE TABLE plans (
  name TEXT PRIMARY KEY, revision BIGINT NOT NULL, body TEXT NOT NULL, catalogue_hash TEXT NOT NULL, state TEXT NOT NULL, held TEXT,
  created BIGINT NOT NULL, created_by TEXT NOT NULL, started BIGINT, ended BIGINT, undecided TEXT NOT NULL);
CREATE TABLE plan_waves (
  plan TEXT NOT NULL REFERENCES plans (name), number BIGINT NOT NULL, name TEXT NOT NULL, state TEXT NOT NULL, opened BIGINT, why TEXT, PRIMARY KEY (plan, number));
CREATE TABLE plan_members (
  plan TEXT NOT NULL REFERENCES plans (name), machine_id BIGINT NOT NULL REFERENCES machines (id), wave BIGINT NOT NULL,
  standing TEXT NOT NULL, gate TEXT NOT NULL, why TEXT, method TEXT, cannot_be_mended BIGINT NOT NULL,
  slot_start BIGINT, slot_end BIGINT, slot_latest BIGINT, slot_sequence BIGINT NOT NULL DEFAULT 0, slot_changed BIGINT, planned_end BIGINT, run_id BIGINT, proved BIGINT,
  excuse TEXT, excuse_reason TEXT, excuse_by TEXT, excuse_until TEXT, PRIMARY KEY (plan, machine_id));
CREATE INDEX plan_members_machine ON plan_members (machine_id);
CREATE INDEX plan_members_run ON plan_members (run_id) WHERE run_id IS NOT NULL;

CREATE TABLE workers (id BIGINT PRIMARY KEY, lease_until BIGINT NOT NULL);
CREATE TABLE runs (
  id BIGINT PRIMARY KEY, machine_id BIGINT NOT NULL REFERENCES machines (id), plan TEXT NOT NULL, events BIGINT NOT NULL, epoch BIGINT NOT NULL,
  worker BIGINT, due_at BIGINT, closed_at BIGINT, shape BIGINT NOT NULL, state TEXT NOT NULL, progress TEXT);
CREATE UNIQUE INDEX runs_one_open ON runs (machine_id) WHERE closed_at IS NULL;
CREATE INDEX runs_plan ON runs (plan, id);
CREATE TABLE run_events (
  run_id BIGINT NOT NULL REFERENCES runs (id), number BIGINT NOT NULL, position BIGINT NOT NULL, at BIGINT NOT NULL, type TEXT NOT NULL,
  version BIGINT NOT NULL, actor TEXT NOT NULL, epoch BIGINT NOT NULL, body TEXT NOT NULL, PRIMARY KEY (run_id, number));
CREATE TABLE run_room (name TEXT NOT NULL, run_id BIGINT NOT NULL REFERENCES runs (id), most BIGINT NOT NULL, PRIMARY KEY (name, run_id));
CREATE INDEX run_room_run ON run_room (run_id, name);

CREATE TABLE feed (position BIGINT PRIMARY KEY, at BIGINT NOT NULL, kind TEXT NOT NULL, subject TEXT NOT NULL, type TEXT NOT NULL, actor TEXT NOT NULL);
CREATE TABLE audit (number BIGINT PRIMARY KEY, at BIGINT NOT NULL, actor TEXT NOT NULL, command TEXT NOT NULL, subject TEXT NOT NULL, detail TEXT NOT NULL);

CREATE TABLE access_tokens (hash TEXT PRIMARY KEY, actor TEXT NOT NULL, created BIGINT NOT NULL, ended BIGINT);
CREATE TABLE login_links (hash TEXT PRIMARY KEY, actor TEXT NOT NULL, expires BIGINT NOT NULL, used BIGINT);
CREATE TABLE sessions (hash TEXT PRIMARY KEY, actor TEXT NOT NULL, expires BIGINT NOT NULL);
