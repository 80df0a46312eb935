-- evidence: entries are never altered; one that belongs to an import taken back is void, and stays
CREATE TABLE consent_evidence (
  id INTEGER PRIMARY KEY,
  subscriber INTEGER NOT NULL,
  purpose INTEGER NOT NULL REFERENCES purposes,
  channel TEXT NOT NULL DEFAULT 'email',
  state INTEGER NOT NULL,
  at INTEGER NOT NULL,
  door TEXT NOT NULL DEFAULT 'import',
  source TEXT,
  wording TEXT,
  reason TEXT,
  list INTEGER,
  deed INTEGER,
  said TEXT,
  before TEXT,
  void INTEGER NOT NULL DEFAULT 0
);
INSERT INTO consent_evidence (id, subscriber, purpose, channel, state, at, source, wording, deed)
  SELECT id, subscriber, purpose, channel, state, at, source, wording, deed FROM consent_entries;
DROP TABLE consent_entries;
ALTER TABLE consent_evidence RENAME TO consent_entries;
CREATE UNIQUE INDEX consent_once ON consent_entries (subscriber, purpose, channel, state, at) WHERE NOT void;

ALTER TABLE purposes ADD COLUMN basis TEXT NOT NULL DEFAULT 'consent';
ALTER TABLE purposes ADD COLUMN transactional INTEGER NOT NULL DEFAULT 0;
ALTER TABLE purposes ADD COLUMN left_out INTEGER NOT NULL DEFAULT 0;
CREATE TABLE wordings (
  id INTEGER PRIMARY KEY,
  purpose INTEGER NOT NULL REFERENCES purposes,
  version INTEGER NOT NULL,
  text TEXT NOT NULL,
  made_at INTEGER NOT NULL,
  UNIQUE (purpose, version)
);

CREATE TABLE preferences (
  subscriber INTEGER PRIMARY KEY REFERENCES subscribers,
  at_most TEXT CHECK (at_most IN ('week', 'month')),
  paused_until INTEGER
);
