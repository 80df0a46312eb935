-- Of each message and provider: how many of the people looked at engaged early, how many were expected to, and how much
-- likelier the spam folder makes that. ratio and variance are of the log of observed over expected beside the others.
CREATE TABLE inbox_placement (
  message INTEGER NOT NULL REFERENCES messages (id),
  provider INTEGER NOT NULL,
  looked_at INTEGER NOT NULL,
  began_at INTEGER NOT NULL,
  people INTEGER NOT NULL,
  observed INTEGER NOT NULL,
  expected REAL NOT NULL,
  likelihood REAL NOT NULL,
  could_show INTEGER NOT NULL CHECK (could_show IN (0, 1)),
  ratio REAL NOT NULL,
  variance REAL NOT NULL,
  paused_at INTEGER, -- when a campaign was paused for it; once only
  PRIMARY KEY (message, provider)
) STRICT, WITHOUT ROWID;
