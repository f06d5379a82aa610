CREATE TABLE accounts (
  name TEXT PRIMARY KEY, kind TEXT NOT NULL, roles TEXT NOT NULL, sites TEXT NOT NULL, provider TEXT, password TEXT, password_changed BIGINT,
  created BIGINT NOT NULL, created_by TEXT NOT NULL, last_used BIGINT, ended BIGINT);
CREATE TABLE sign_in_failures (name TEXT PRIMARY KEY, failures BIGINT NOT NULL, last_at BIGINT NOT NULL, until_at BIGINT NOT NULL);
CREATE TABLE tokens (
  id BIGINT PRIMARY KEY, hash TEXT NOT NULL UNIQUE, account TEXT NOT NULL REFERENCES accounts (name), label TEXT NOT NULL, roles TEXT NOT NULL, sites TEXT NOT NULL,
  created BIGINT NOT NULL, created_by TEXT NOT NULL, expires BIGINT, ended BIGINT, last_used BIGINT, last_from TEXT);
CREATE INDEX tokens_of ON tokens (account);
INSERT INTO accounts (name, kind, roles, sites, created, created_by)
  SELECT actor, 'person', 'reader,auditor,planner,approver,operator,admin', '["*"]', MIN(created), 'first start' FROM access_tokens GROUP BY actor;
INSERT INTO tokens (id, hash, account, label, roles, sites, created, created_by, ended)
  SELECT ROW_NUMBER() OVER (ORDER BY created), hash, actor, 'first token', 'reader,auditor,planner,approver,operator,admin', '["*"]', created, 'first start', ended FROM access_tokens;
INSERT INTO counters (name, last) SELECT 'token', count(*) FROM access_tokens;
INSERT INTO counters (name, last) VALUES ('session', 0), ('sealed', 0);
DROP TABLE access_tokens;
DROP TABLE sessions;
CREATE TABLE sessions (
  id BIGINT PRIMARY KEY, hash TEXT NOT NULL UNIQUE, account TEXT NOT NULL REFERENCES accounts (name), way TEXT NOT NULL, roles TEXT NOT NULL, sites TEXT NOT NULL,
  begun BIGINT NOT NULL, expires BIGINT NOT NULL, last_used BIGINT NOT NULL, from_where TEXT NOT NULL, agent TEXT NOT NULL);
CREATE INDEX sessions_of ON sessions (account);

ALTER TABLE feed ADD COLUMN machine_id BIGINT;
ALTER TABLE plans ADD COLUMN sites TEXT NOT NULL DEFAULT '["*"]';

ALTER TABLE audit ADD COLUMN from_where TEXT NOT NULL DEFAULT '';
ALTER TABLE audit ADD COLUMN machine_id BIGINT;
ALTER TABLE audit ADD COLUMN value_before TEXT;
ALTER TABLE audit ADD COLUMN value_after TEXT;
ALTER TABLE audit ADD COLUMN hash TEXT;
CREATE INDEX audit_machine ON audit (machine_id);
CREATE TABLE audit_seals (number BIGINT PRIMARY KEY, hash TEXT NOT NULL, key_id TEXT NOT NULL, signature TEXT NOT NULL);

CREATE TABLE secrets (
  name TEXT PRIMARY KEY, value TEXT NOT NULL, created BIGINT NOT NULL, created_by TEXT NOT NULL, changed BIGINT NOT NULL, changed_by TEXT NOT NULL, last_used BIGINT);
ALTER TABLE machines ADD COLUMN ssh_key TEXT;
ALTER TABLE machines ADD COLUMN host_key_from TEXT;
CREATE TABLE first_use (site TEXT PRIMARY KEY, reason TEXT NOT NULL, given_by TEXT NOT NULL, given BIGINT NOT NULL);

ALTER TABLE catalogues ADD COLUMN approved BIGINT;
ALTER TABLE catalogues ADD COLUMN approved_by TEXT;
ALTER TABLE catalogues ADD COLUMN reason TEXT;
UPDATE catalogues SET approved = added, approved_by = 'first start', reason = 'in use before changes waited for approval';
CREATE TABLE script_uses (
  machine_id BIGINT NOT NULL REFERENCES machines (id), script_hash TEXT NOT NULL, product TEXT NOT NULL, script TEXT NOT NULL, purpose TEXT NOT NULL, for_whom TEXT NOT NULL,
  first_at BIGINT NOT NULL, last_at BIGINT NOT NULL, last_order TEXT NOT NULL, times BIGINT NOT NULL, PRIMARY KEY (machine_id, script_hash, product, script, purpose, for_whom));
CREATE INDEX script_uses_of ON script_uses (script_hash);
