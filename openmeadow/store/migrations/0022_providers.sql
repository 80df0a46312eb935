-- mailbox providers are found by whose hosts take a domain's mail; 0 stands for all other domains
CREATE TABLE providers (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  colour TEXT NOT NULL DEFAULT '',
  daily_cap INTEGER,
  limits TEXT NOT NULL DEFAULT '{}',
  found_at INTEGER NOT NULL DEFAULT 0
) STRICT;
INSERT INTO providers (id, name) VALUES (0, 'Other domains');
-- the organisational domain of mail hosts: who runs them
CREATE TABLE provider_hosts (
  host TEXT PRIMARY KEY,
  provider INTEGER NOT NULL REFERENCES providers
) STRICT, WITHOUT ROWID;
CREATE INDEX provider_hosts_of ON provider_hosts (provider);
-- a subscribers' domain that somebody put at a provider by hand, whatever its mail hosts say
CREATE TABLE provider_domains (
  domain TEXT PRIMARY KEY,
  provider INTEGER NOT NULL REFERENCES providers
) STRICT, WITHOUT ROWID;
CREATE INDEX provider_domains_of ON provider_domains (provider);
UPDATE subscribers SET provider = 0;
CREATE INDEX subscribers_of_provider ON subscribers (provider);
ALTER TABLE domain_answers ADD COLUMN mail_organisation TEXT;
