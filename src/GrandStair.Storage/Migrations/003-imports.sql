CREATE TABLE imports (
  id BIGINT PRIMARY KEY, digest TEXT NOT NULL, ticket TEXT, source TEXT NOT NULL, actor TEXT NOT NULL, begun BIGINT NOT NULL, ended BIGINT,
  lines BIGINT NOT NULL, line BIGINT NOT NULL, added BIGINT NOT NULL, updated BIGINT NOT NULL);
INSERT INTO counters (name, last) VALUES ('import', 0);
