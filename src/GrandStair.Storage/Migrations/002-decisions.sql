CREATE TABLE waivers (
  id BIGINT PRIMARY KEY, product TEXT NOT NULL, machine_id BIGINT NOT NULL REFERENCES machines (id), check_name TEXT NOT NULL, version TEXT NOT NULL, seen TEXT NOT NULL,
  reason TEXT NOT NULL, given_by TEXT NOT NULL, given BIGINT NOT NULL, until_at BIGINT NOT NULL, ended BIGINT, ended_by TEXT, ended_reason TEXT);
CREATE INDEX waivers_of ON waivers (product, machine_id);
CREATE TABLE method_choices (
  plan TEXT NOT NULL REFERENCES plans (name), machine_id BIGINT NOT NULL REFERENCES machines (id), method TEXT NOT NULL, reason TEXT NOT NULL, chosen_by TEXT NOT NULL, at BIGINT NOT NULL,
  PRIMARY KEY (plan, machine_id));
CREATE TABLE acknowledgements (
  plan TEXT NOT NULL REFERENCES plans (name), kind TEXT NOT NULL, name TEXT NOT NULL, reason TEXT NOT NULL, given_by TEXT NOT NULL, at BIGINT NOT NULL, PRIMARY KEY (plan, kind, name));
CREATE TABLE fixes (
  id BIGINT PRIMARY KEY, machine_id BIGINT NOT NULL REFERENCES machines (id), product TEXT NOT NULL, check_name TEXT NOT NULL, script TEXT NOT NULL, script_hash TEXT NOT NULL,
  actor TEXT NOT NULL, begun BIGINT NOT NULL, ended BIGINT, exit_status BIGINT, note TEXT NOT NULL, check_state TEXT);
CREATE INDEX fixes_of ON fixes (machine_id);
CREATE TABLE tallies (day TEXT NOT NULL, product TEXT NOT NULL, release TEXT NOT NULL, machines BIGINT NOT NULL, PRIMARY KEY (day, product, release));
CREATE TABLE source_reads (source TEXT PRIMARY KEY, at BIGINT NOT NULL, machines BIGINT NOT NULL, added BIGINT NOT NULL, trouble TEXT);
INSERT INTO counters (name, last) VALUES ('waiver', 0), ('fix', 0), ('decision', 0);
