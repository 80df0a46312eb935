-- keys beside the one in use: the next one until it is proved, the old one for a week
CREATE TABLE dkim_keys (
  id INTEGER PRIMARY KEY,
  domain INTEGER NOT NULL REFERENCES domains,
  selector TEXT NOT NULL,
  private_key TEXT NOT NULL,
  public_key TEXT NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('next', 'old')),
  made_at INTEGER NOT NULL,
  retired_at INTEGER,
  UNIQUE (domain, selector)
);
ALTER TABLE domains ADD COLUMN spf TEXT NOT NULL DEFAULT '{}';
CREATE TABLE record_changes (
  id INTEGER PRIMARY KEY,
  domain INTEGER NOT NULL REFERENCES domains,
  at INTEGER NOT NULL,
  record TEXT NOT NULL,
  before TEXT NOT NULL,
  after TEXT NOT NULL,
  found TEXT NOT NULL
);
CREATE INDEX record_changes_of_domain ON record_changes (domain, at);
ALTER TABLE campaigns ADD COLUMN held_why TEXT NOT NULL DEFAULT '';

-- mail that came back, as it came; what it said is in the events
CREATE TABLE intake_mail (
  id INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  hash TEXT NOT NULL UNIQUE,
  kind TEXT NOT NULL,
  subscriber INTEGER,
  message INTEGER,
  class TEXT,
  code TEXT,
  diagnostic TEXT,
  raw BLOB NOT NULL
);
CREATE INDEX intake_mail_of_subscriber ON intake_mail (subscriber);
CREATE INDEX intake_mail_by_time ON intake_mail (at);

-- receivers' own aggregate reports (RFC 7489 appendix C), each kept once
CREATE TABLE aggregate_reports (
  id INTEGER PRIMARY KEY,
  org TEXT NOT NULL,
  report_id TEXT NOT NULL,
  domain TEXT NOT NULL,
  begin_at INTEGER NOT NULL,
  end_at INTEGER NOT NULL,
  policy TEXT NOT NULL,
  taken_at INTEGER NOT NULL,
  UNIQUE (org, report_id, domain)
);
CREATE TABLE aggregate_rows (
  report INTEGER NOT NULL REFERENCES aggregate_reports,
  ip TEXT NOT NULL,
  messages INTEGER NOT NULL,
  disposition TEXT NOT NULL,
  dkim TEXT NOT NULL,
  spf TEXT NOT NULL,
  header_from TEXT NOT NULL,
  dkim_domain TEXT NOT NULL DEFAULT '',
  spf_domain TEXT NOT NULL DEFAULT ''
);
CREATE INDEX aggregate_rows_of_report ON aggregate_rows (report);
CREATE TABLE known_sources (
  ip TEXT PRIMARY KEY,
  name TEXT NOT NULL,
  ours INTEGER NOT NULL,
  at INTEGER NOT NULL,
  who TEXT NOT NULL
) WITHOUT ROWID;

-- what mail hosts said about addresses and domains, kept with its age
CREATE TABLE domain_answers (
  domain TEXT PRIMARY KEY,
  takes_mail INTEGER,
  hosts TEXT NOT NULL,
  accepts_everything INTEGER,
  at INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE mailbox_answers (
  email_key TEXT PRIMARY KEY,
  answer TEXT NOT NULL,
  said TEXT NOT NULL,
  at INTEGER NOT NULL,
  again_at INTEGER
) WITHOUT ROWID;
