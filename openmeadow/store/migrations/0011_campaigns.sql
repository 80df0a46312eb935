-- a second resend is a pass of its own; lists beside segments; what each delivery said; who overruled what and why
CREATE TABLE passes_anew (
  id INTEGER PRIMARY KEY,
  campaign INTEGER NOT NULL REFERENCES campaigns,
  kind TEXT NOT NULL CHECK (kind IN ('first', 'resend', 'second resend')),
  arms TEXT NOT NULL DEFAULT '[]',
  held_share REAL NOT NULL DEFAULT 0,
  UNIQUE (campaign, kind)
);
INSERT INTO passes_anew SELECT id, campaign, kind, arms, held_share FROM passes;
DROP TABLE passes;
ALTER TABLE passes_anew RENAME TO passes;

ALTER TABLE campaigns ADD COLUMN lists_in TEXT NOT NULL DEFAULT '[]';
ALTER TABLE campaigns ADD COLUMN lists_out TEXT NOT NULL DEFAULT '[]';
ALTER TABLE campaigns ADD COLUMN with_sequences INTEGER NOT NULL DEFAULT 0;
ALTER TABLE campaigns ADD COLUMN blocks TEXT;
ALTER TABLE campaigns ADD COLUMN record_opens INTEGER NOT NULL DEFAULT 1;
ALTER TABLE campaigns ADD COLUMN record_clicks INTEGER NOT NULL DEFAULT 1;
ALTER TABLE campaigns ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
ALTER TABLE campaigns ADD COLUMN asked_at INTEGER;
ALTER TABLE campaigns ADD COLUMN asked_by TEXT;
ALTER TABLE campaigns ADD COLUMN approved_at INTEGER;
ALTER TABLE campaigns ADD COLUMN approved_by TEXT;
ALTER TABLE campaigns ADD COLUMN approved_as TEXT;

CREATE TABLE campaign_versions (
  campaign INTEGER NOT NULL REFERENCES campaigns ON DELETE CASCADE,
  n INTEGER NOT NULL,
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  subject TEXT NOT NULL,
  preview TEXT NOT NULL,
  html TEXT NOT NULL,
  plain TEXT NOT NULL,
  blocks TEXT,
  PRIMARY KEY (campaign, n)
);
-- every campaign that has started said what it says now
INSERT INTO campaign_versions SELECT id, 1, coalesce(started_at, made_at), '', subject, preview, html, plain, NULL
  FROM campaigns WHERE state <> 'draft';
ALTER TABLE deliveries ADD COLUMN version INTEGER;

CREATE TABLE overrules (
  campaign INTEGER NOT NULL REFERENCES campaigns ON DELETE CASCADE,
  name TEXT NOT NULL,
  finding TEXT NOT NULL,
  reason TEXT NOT NULL,
  who TEXT NOT NULL,
  at INTEGER NOT NULL,
  PRIMARY KEY (campaign, name, finding)
) WITHOUT ROWID;
CREATE TABLE link_answers (
  url TEXT PRIMARY KEY,
  at INTEGER NOT NULL,
  status INTEGER NOT NULL,
  said TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE templates (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  subject TEXT NOT NULL,
  preview TEXT NOT NULL,
  html TEXT NOT NULL,
  plain TEXT NOT NULL,
  plain_by_hand INTEGER NOT NULL DEFAULT 0,
  blocks TEXT,
  made_at INTEGER NOT NULL,
  who TEXT NOT NULL
);
CREATE TABLE pictures (
  id INTEGER PRIMARY KEY,
  hash TEXT NOT NULL UNIQUE,
  name TEXT NOT NULL,
  kind TEXT NOT NULL,
  bytes INTEGER NOT NULL,
  width INTEGER NOT NULL,
  height INTEGER NOT NULL,
  alt TEXT NOT NULL DEFAULT '',
  at INTEGER NOT NULL,
  who TEXT NOT NULL
);
