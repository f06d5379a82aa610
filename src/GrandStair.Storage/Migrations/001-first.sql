-- Counters of numbers, settings, and simulated time.
CREATE TABLE counters (name TEXT PRIMARY KEY, last BIGINT NOT NULL);
INSERT INTO counters (name, last) VALUES
  ('machine', 0), ('run', 0), ('feed', 0), ('fleet', 0), ('audit', 0), ('worker', 0), ('waiver', 0),
  ('fix', 0), ('decision', 0), ('import', 0), ('token', 0), ('session', 0), ('sealed', 0), ('rehearsal', 0), ('share-link', 0),
  ('support-case', 0);
CREATE TABLE settings (name TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE clock (id BIGINT PRIMARY KEY, anchor_real BIGINT NOT NULL, anchor_domain BIGINT NOT NULL, pace DOUBLE PRECISION NOT NULL);

-- The fleet: machines, what is known of them, and how it was read.
CREATE TABLE machines (
  id BIGINT PRIMARY KEY, name TEXT NOT NULL, site TEXT NOT NULL, group_name TEXT NOT NULL, owner TEXT NOT NULL, tags TEXT NOT NULL,
  connection_kind TEXT NOT NULL, address TEXT NOT NULL, port BIGINT NOT NULL, user_name TEXT NOT NULL, host_key TEXT,
  created BIGINT NOT NULL, changed BIGINT NOT NULL, ssh_key TEXT, host_key_from TEXT,
  removed BIGINT, removed_by TEXT, removed_reason TEXT);
CREATE INDEX machines_changed ON machines (changed);
CREATE INDEX machines_removed ON machines (removed) WHERE removed IS NOT NULL;
CREATE TABLE identifiers (
  kind TEXT NOT NULL, value TEXT NOT NULL, machine_id BIGINT NOT NULL REFERENCES machines (id), PRIMARY KEY (kind, value));
CREATE INDEX identifiers_of ON identifiers (machine_id);
CREATE TABLE readings (
  machine_id BIGINT NOT NULL REFERENCES machines (id), source TEXT NOT NULL, document TEXT NOT NULL, PRIMARY KEY (machine_id, source));
CREATE TABLE reading_history (
  machine_id BIGINT NOT NULL, source TEXT NOT NULL, key_name TEXT NOT NULL, seen BIGINT NOT NULL, received BIGINT NOT NULL,
  state TEXT NOT NULL, value TEXT, why TEXT);
CREATE INDEX reading_history_of ON reading_history (machine_id, key_name);
CREATE TABLE imports (
  id BIGINT PRIMARY KEY, digest TEXT NOT NULL, ticket TEXT, source TEXT NOT NULL, actor TEXT NOT NULL, begun BIGINT NOT NULL, ended BIGINT,
  lines BIGINT NOT NULL, line BIGINT NOT NULL, added BIGINT NOT NULL, updated BIGINT NOT NULL, undone BIGINT, undone_by TEXT);
-- What each machine was before an import; without it the import added the machine.
CREATE TABLE import_changes (
  import_id BIGINT NOT NULL REFERENCES imports (id), machine_id BIGINT NOT NULL REFERENCES machines (id), before TEXT,
  PRIMARY KEY (import_id, machine_id));
CREATE TABLE source_reads (source TEXT PRIMARY KEY, at BIGINT NOT NULL, machines BIGINT NOT NULL, added BIGINT NOT NULL, trouble TEXT);
CREATE TABLE tallies (
  day TEXT NOT NULL, product TEXT NOT NULL, release TEXT NOT NULL, machines BIGINT NOT NULL, PRIMARY KEY (day, product, release));
CREATE TABLE first_use (site TEXT PRIMARY KEY, reason TEXT NOT NULL, given_by TEXT NOT NULL, given BIGINT NOT NULL);

-- The catalogue, and which scripts ran where.
CREATE TABLE catalogues (
  hash TEXT PRIMARY KEY, product TEXT NOT NULL, body TEXT NOT NULL, added BIGINT NOT NULL, approved BIGINT, approved_by TEXT, reason TEXT);
CREATE TABLE script_uses (
  machine_id BIGINT NOT NULL REFERENCES machines (id), script_hash TEXT NOT NULL, product TEXT NOT NULL, script TEXT NOT NULL,
  purpose TEXT NOT NULL, for_whom TEXT NOT NULL, first_at BIGINT NOT NULL, last_at BIGINT NOT NULL, last_order TEXT NOT NULL,
  times BIGINT NOT NULL, PRIMARY KEY (machine_id, script_hash, product, script, purpose, for_whom));
CREATE INDEX script_uses_of ON script_uses (script_hash);

-- Plans, their revisions and approvals, calendars, rehearsals and share links.
CREATE TABLE plans (
  name TEXT PRIMARY KEY, revision BIGINT NOT NULL, body TEXT NOT NULL, catalogue_hash TEXT NOT NULL, state TEXT NOT NULL, held TEXT,
  created BIGINT NOT NULL, created_by TEXT NOT NULL, started BIGINT, ended BIGINT, undecided TEXT NOT NULL,
  sites TEXT NOT NULL DEFAULT '["*"]', revised_by TEXT NOT NULL DEFAULT '', coverages TEXT NOT NULL DEFAULT '[]',
  first_intent TEXT NOT NULL DEFAULT '');
CREATE TABLE plan_waves (
  plan TEXT NOT NULL REFERENCES plans (name), number BIGINT NOT NULL, name TEXT NOT NULL, state TEXT NOT NULL, opened BIGINT, why TEXT,
  PRIMARY KEY (plan, number));
CREATE TABLE plan_members (
  plan TEXT NOT NULL REFERENCES plans (name), machine_id BIGINT NOT NULL REFERENCES machines (id), wave BIGINT NOT NULL,
  status TEXT NOT NULL, gate TEXT NOT NULL, why TEXT, method TEXT, cannot_be_fixed BIGINT NOT NULL, slot_start BIGINT, slot_end BIGINT,
  slot_latest BIGINT, slot_sequence BIGINT NOT NULL DEFAULT 0, slot_changed BIGINT, planned_end BIGINT, run_id BIGINT, verified BIGINT,
  exemption TEXT, exemption_reason TEXT, exempted_by TEXT, exempt_until TEXT, planned_start BIGINT, slot_stage BIGINT, slot_crew TEXT,
  change TEXT, missed BIGINT NOT NULL DEFAULT 0, moved_reason TEXT, moved_by TEXT, readied BIGINT, rescheduled BIGINT, rescheduled_by TEXT,
  rescheduled_reason TEXT, tentative_start BIGINT, tentative_end BIGINT, tentative_stage BIGINT, tentative_crew TEXT, lapsed BIGINT,
  PRIMARY KEY (plan, machine_id));
CREATE INDEX plan_members_machine ON plan_members (machine_id);
CREATE INDEX plan_members_run ON plan_members (run_id) WHERE run_id IS NOT NULL;
CREATE TABLE plan_revisions (
  plan TEXT NOT NULL REFERENCES plans (name), revision BIGINT NOT NULL, body TEXT NOT NULL, catalogue_hash TEXT NOT NULL,
  at BIGINT NOT NULL, by_whom TEXT NOT NULL, reason TEXT NOT NULL, consent TEXT NOT NULL DEFAULT '', PRIMARY KEY (plan, revision));
CREATE TABLE plan_intent_changes (
  plan TEXT NOT NULL REFERENCES plans (name), number BIGINT NOT NULL, at BIGINT NOT NULL, by_whom TEXT NOT NULL, what TEXT NOT NULL,
  PRIMARY KEY (plan, number));
CREATE TABLE plan_approvals (
  plan TEXT NOT NULL REFERENCES plans (name), number BIGINT NOT NULL, subject TEXT NOT NULL, intent TEXT NOT NULL, revision BIGINT NOT NULL,
  changes BIGINT NOT NULL, by_whom TEXT NOT NULL, at BIGINT NOT NULL, reason TEXT NOT NULL, PRIMARY KEY (plan, number));
CREATE TABLE calendars (
  name TEXT PRIMARY KEY, body TEXT NOT NULL, hash TEXT NOT NULL, loaded BIGINT NOT NULL, loaded_by TEXT NOT NULL,
  events BIGINT NOT NULL DEFAULT 0);
CREATE TABLE rehearsals (
  id BIGINT PRIMARY KEY, plan TEXT NOT NULL REFERENCES plans (name), revision BIGINT NOT NULL, kind TEXT NOT NULL, state TEXT NOT NULL,
  asked_for TEXT NOT NULL, done BIGINT NOT NULL, total BIGINT NOT NULL, result TEXT, why TEXT, position BIGINT NOT NULL,
  asked_by TEXT NOT NULL, asked BIGINT NOT NULL, ended BIGINT, beat BIGINT NOT NULL);
CREATE INDEX rehearsals_plan ON rehearsals (plan, id);
CREATE TABLE share_links (
  id BIGINT PRIMARY KEY, hash TEXT NOT NULL UNIQUE, plan TEXT NOT NULL REFERENCES plans (name), kind TEXT NOT NULL, of_whom TEXT NOT NULL,
  sites TEXT NOT NULL, made BIGINT NOT NULL, made_by TEXT NOT NULL, ended BIGINT, last_used BIGINT);
CREATE INDEX share_links_plan ON share_links (plan, id);

-- Decisions of people: waivers, methods, acknowledgements; and fixes that ran.
CREATE TABLE waivers (
  id BIGINT PRIMARY KEY, product TEXT NOT NULL, machine_id BIGINT NOT NULL REFERENCES machines (id), check_name TEXT NOT NULL,
  version TEXT NOT NULL, seen TEXT NOT NULL, reason TEXT NOT NULL, given_by TEXT NOT NULL, given BIGINT NOT NULL, until_at BIGINT NOT NULL,
  ended BIGINT, ended_by TEXT, ended_reason TEXT);
CREATE INDEX waivers_of ON waivers (product, machine_id);
CREATE TABLE method_choices (
  plan TEXT NOT NULL REFERENCES plans (name), machine_id BIGINT NOT NULL REFERENCES machines (id), method TEXT NOT NULL,
  reason TEXT NOT NULL, chosen_by TEXT NOT NULL, at BIGINT NOT NULL, PRIMARY KEY (plan, machine_id));
CREATE TABLE acknowledgements (
  plan TEXT NOT NULL REFERENCES plans (name), kind TEXT NOT NULL, name TEXT NOT NULL, reason TEXT NOT NULL, given_by TEXT NOT NULL,
  at BIGINT NOT NULL, covers TEXT NOT NULL DEFAULT '', PRIMARY KEY (plan, kind, name));
CREATE TABLE fixes (
  id BIGINT PRIMARY KEY, machine_id BIGINT NOT NULL REFERENCES machines (id), product TEXT NOT NULL, check_name TEXT NOT NULL,
  script TEXT NOT NULL, script_hash TEXT NOT NULL, actor TEXT NOT NULL, begun BIGINT NOT NULL, not_before BIGINT, ended BIGINT, exit_status BIGINT,
  note TEXT NOT NULL, check_state TEXT, run_id BIGINT);
CREATE INDEX fixes_of ON fixes (machine_id);
-- Cases with the vendor's support. crew_until: the end of the appointment, where a crew is booked for it.
CREATE TABLE support_cases (id BIGINT PRIMARY KEY, body TEXT NOT NULL, closed_at BIGINT, crew_until BIGINT);

-- Runs, the room that they hold within limits, and the workers that look at them.
CREATE TABLE runs (
  id BIGINT PRIMARY KEY, machine_id BIGINT NOT NULL REFERENCES machines (id), plan TEXT NOT NULL, events BIGINT NOT NULL,
  epoch BIGINT NOT NULL, worker BIGINT, due_at BIGINT, closed_at BIGINT, waits_for TEXT, silent BIGINT NOT NULL DEFAULT 0,
  shape BIGINT NOT NULL, state TEXT NOT NULL, progress TEXT);
CREATE UNIQUE INDEX runs_one_open ON runs (machine_id) WHERE closed_at IS NULL;
CREATE INDEX runs_plan ON runs (plan, id);
-- The runs that wait for a limit: they are due as soon as a place in it becomes free.
CREATE INDEX runs_waiting ON runs (waits_for, due_at) WHERE waits_for IS NOT NULL;
-- What a worker asks for to choose the runs that it claims next; silent: the last look heard nothing.
CREATE INDEX runs_due ON runs (silent, due_at, worker, plan, machine_id, id) WHERE due_at IS NOT NULL;
CREATE TABLE run_events (
  run_id BIGINT NOT NULL REFERENCES runs (id), number BIGINT NOT NULL, position BIGINT NOT NULL, at BIGINT NOT NULL, type TEXT NOT NULL,
  version BIGINT NOT NULL, actor TEXT NOT NULL, epoch BIGINT NOT NULL, body TEXT NOT NULL, PRIMARY KEY (run_id, number));
-- What a step recorded of a machine: packages, services, devices, files, as a script listed them; compressed.
CREATE TABLE run_records (
  run_id BIGINT NOT NULL REFERENCES runs (id), leg BIGINT NOT NULL, step TEXT NOT NULL, at BIGINT NOT NULL, content TEXT NOT NULL,
  PRIMARY KEY (run_id, leg, step));
-- What the scripts of steps printed, in pieces as they were fetched; compressed.
CREATE TABLE run_outputs (
  run_id BIGINT NOT NULL REFERENCES runs (id), leg BIGINT NOT NULL, step TEXT NOT NULL, attempt BIGINT NOT NULL, start BIGINT NOT NULL,
  length BIGINT NOT NULL, at BIGINT NOT NULL, content TEXT NOT NULL, PRIMARY KEY (run_id, leg, step, attempt, start));
CREATE TABLE run_room (name TEXT NOT NULL, run_id BIGINT NOT NULL REFERENCES runs (id), most BIGINT NOT NULL, PRIMARY KEY (name, run_id));
CREATE INDEX run_room_run ON run_room (run_id, name);
CREATE TABLE workers (id BIGINT PRIMARY KEY, lease_until BIGINT NOT NULL);
-- Which service has each duty that only one may have at a time.
CREATE TABLE duty_leases (name TEXT PRIMARY KEY, holder TEXT NOT NULL, lease_until BIGINT NOT NULL);

-- What changed, and the audit log with its seals.
CREATE TABLE feed (
  position BIGINT PRIMARY KEY, at BIGINT NOT NULL, kind TEXT NOT NULL, subject TEXT NOT NULL, type TEXT NOT NULL, actor TEXT NOT NULL,
  machine_id BIGINT);
CREATE TABLE audit (
  number BIGINT PRIMARY KEY, at BIGINT NOT NULL, actor TEXT NOT NULL, command TEXT NOT NULL, subject TEXT NOT NULL, detail TEXT NOT NULL,
  from_where TEXT NOT NULL DEFAULT '', machine_id BIGINT, value_before TEXT, value_after TEXT, hash TEXT);
CREATE INDEX audit_machine ON audit (machine_id);
CREATE TABLE audit_seals (number BIGINT PRIMARY KEY, hash TEXT NOT NULL, key_id TEXT NOT NULL, signature TEXT NOT NULL);

-- Accounts, tokens, sessions and secrets.
CREATE TABLE accounts (
  name TEXT PRIMARY KEY, kind TEXT NOT NULL, roles TEXT NOT NULL, sites TEXT NOT NULL, provider TEXT, password TEXT,
  password_changed BIGINT, created BIGINT NOT NULL, created_by TEXT NOT NULL, last_used BIGINT, ended BIGINT);
CREATE TABLE tokens (
  id BIGINT PRIMARY KEY, hash TEXT NOT NULL UNIQUE, account TEXT NOT NULL REFERENCES accounts (name), label TEXT NOT NULL,
  roles TEXT NOT NULL, sites TEXT NOT NULL, created BIGINT NOT NULL, created_by TEXT NOT NULL, expires BIGINT, ended BIGINT,
  last_used BIGINT, last_from TEXT, parent_token BIGINT, parent_session BIGINT);
CREATE INDEX tokens_of ON tokens (account);
CREATE TABLE sessions (
  id BIGINT PRIMARY KEY, hash TEXT NOT NULL UNIQUE, account TEXT NOT NULL REFERENCES accounts (name), way TEXT NOT NULL,
  roles TEXT NOT NULL, sites TEXT NOT NULL, begun BIGINT NOT NULL, expires BIGINT NOT NULL, last_used BIGINT NOT NULL,
  from_where TEXT NOT NULL, agent TEXT NOT NULL, parent_token BIGINT);
CREATE INDEX sessions_of ON sessions (account);
CREATE TABLE login_links (hash TEXT PRIMARY KEY, actor TEXT NOT NULL, expires BIGINT NOT NULL, used BIGINT);
CREATE TABLE sign_in_failures (name TEXT PRIMARY KEY, failures BIGINT NOT NULL, last_at BIGINT NOT NULL, until_at BIGINT NOT NULL);
CREATE TABLE secrets (
  name TEXT PRIMARY KEY, value TEXT NOT NULL, created BIGINT NOT NULL, created_by TEXT NOT NULL, changed BIGINT NOT NULL,
  changed_by TEXT NOT NULL, last_used BIGINT);

-- What steps saved of machines' files; the content lies encrypted in the media folder.
CREATE TABLE saved_files (
  run_id BIGINT NOT NULL REFERENCES runs (id), leg BIGINT NOT NULL, step TEXT NOT NULL, at BIGINT NOT NULL, size BIGINT NOT NULL,
  sha256 TEXT NOT NULL, PRIMARY KEY (run_id, leg, step));

-- Installation files, by the SHA-256 of their content, which lies in the media folder; and uploads that have not ended.
CREATE TABLE media (
  sha256 TEXT PRIMARY KEY, file TEXT NOT NULL, size BIGINT NOT NULL, added BIGINT NOT NULL, added_by TEXT NOT NULL, quarantined TEXT);
CREATE TABLE media_uploads (
  id TEXT PRIMARY KEY, file TEXT NOT NULL, size BIGINT NOT NULL, sha256 TEXT, begun BIGINT NOT NULL, begun_by TEXT NOT NULL,
  url TEXT, validator TEXT, trouble TEXT);
-- Sites whose machines fetch media elsewhere than from the service, and the media that lies on machines.
CREATE TABLE site_repositories (site TEXT PRIMARY KEY, url TEXT NOT NULL, set_by TEXT NOT NULL, at BIGINT NOT NULL);
CREATE TABLE staged_media (
  machine_id BIGINT NOT NULL REFERENCES machines (id), sha256 TEXT NOT NULL, file TEXT NOT NULL, at BIGINT NOT NULL,
  PRIMARY KEY (machine_id, sha256));
