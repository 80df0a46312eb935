-- mail that came to the intake and is to be read; what was set aside, with its reason
CREATE TABLE intake_queue (
  id INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  recipient TEXT NOT NULL,
  sender TEXT NOT NULL,
  raw BLOB NOT NULL
) STRICT;
CREATE TABLE intake_aside (
  id INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  recipient TEXT NOT NULL,
  reason TEXT NOT NULL,
  bytes INTEGER NOT NULL,
  raw BLOB NOT NULL
) STRICT;
CREATE INDEX intake_aside_by_time ON intake_aside (at);
