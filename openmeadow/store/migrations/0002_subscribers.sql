-- what was done can be taken back: rows carry the activity ("deed") that made them
ALTER TABLE activity ADD COLUMN undo TEXT;
ALTER TABLE activity ADD COLUMN undone_at INTEGER;
ALTER TABLE subscribers ADD COLUMN deed INTEGER;
ALTER TABLE list_members ADD COLUMN deed INTEGER;
ALTER TABLE subscriber_labels ADD COLUMN deed INTEGER;
ALTER TABLE suppressions ADD COLUMN deed INTEGER;
ALTER TABLE consent_entries ADD COLUMN deed INTEGER;
ALTER TABLE events_aside ADD COLUMN deed INTEGER;
CREATE TABLE deed_events (deed INTEGER NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL);
CREATE TABLE deed_before (
  deed INTEGER NOT NULL,
  kind TEXT NOT NULL,
  subscriber INTEGER NOT NULL,
  row TEXT NOT NULL,
  PRIMARY KEY (deed, kind, subscriber, row)
) WITHOUT ROWID;

CREATE TABLE column_matches (header TEXT PRIMARY KEY, targets TEXT NOT NULL, at INTEGER NOT NULL) WITHOUT ROWID;
CREATE TABLE erased (hash TEXT PRIMARY KEY, at INTEGER NOT NULL) WITHOUT ROWID;
CREATE TABLE notes (
  id INTEGER PRIMARY KEY,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  text TEXT NOT NULL
);
CREATE INDEX notes_of_subscriber ON notes (subscriber);
CREATE TABLE address_verdicts (
  subscriber INTEGER PRIMARY KEY REFERENCES subscribers,
  verdict INTEGER NOT NULL,
  reasons TEXT NOT NULL,
  suggestion TEXT,
  at INTEGER NOT NULL
);

CREATE TABLE segment_counts (
  segment INTEGER NOT NULL REFERENCES segments ON DELETE CASCADE,
  at INTEGER NOT NULL,
  count INTEGER NOT NULL,
  PRIMARY KEY (segment, at)
) WITHOUT ROWID;
CREATE TABLE frozen (
  id INTEGER PRIMARY KEY,
  segment INTEGER NOT NULL REFERENCES segments ON DELETE CASCADE,
  rule TEXT NOT NULL,
  at INTEGER NOT NULL,
  people INTEGER NOT NULL
);
CREATE TABLE frozen_people (
  frozen INTEGER NOT NULL REFERENCES frozen ON DELETE CASCADE,
  subscriber INTEGER NOT NULL,
  PRIMARY KEY (frozen, subscriber)
) WITHOUT ROWID;

CREATE TABLE sequences (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE);
CREATE TABLE sequence_stays (
  id INTEGER PRIMARY KEY,
  sequence INTEGER NOT NULL REFERENCES sequences,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  entered_at INTEGER NOT NULL,
  left_at INTEGER,
  finished INTEGER NOT NULL DEFAULT 0
);
