CREATE TABLE placement_tests (
  id INTEGER PRIMARY KEY,
  campaign INTEGER REFERENCES campaigns,
  at INTEGER NOT NULL,
  who TEXT NOT NULL
);
CREATE TABLE placement_copies (
  id INTEGER PRIMARY KEY,
  test INTEGER NOT NULL REFERENCES placement_tests,
  provider TEXT NOT NULL,
  address TEXT NOT NULL,
  mark TEXT NOT NULL,
  folder TEXT NOT NULL DEFAULT 'waiting' CHECK (folder IN ('waiting', 'inbox', 'spam', 'missing', 'refused')),
  seen_at INTEGER
);
CREATE TABLE words_sent (key TEXT PRIMARY KEY, at INTEGER NOT NULL, sentence TEXT NOT NULL) WITHOUT ROWID;

-- a job may be paused
CREATE TABLE jobs_anew (
  id INTEGER PRIMARY KEY,
  kind TEXT NOT NULL,
  arguments TEXT NOT NULL,
  state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'working', 'paused', 'finished', 'failed')),
  done INTEGER NOT NULL DEFAULT 0,
  total INTEGER NOT NULL DEFAULT 0,
  outcome TEXT,
  who TEXT NOT NULL,
  made_at INTEGER NOT NULL,
  changed_at INTEGER NOT NULL
);
INSERT INTO jobs_anew SELECT * FROM jobs;
DROP TABLE jobs;
ALTER TABLE jobs_anew RENAME TO jobs;
