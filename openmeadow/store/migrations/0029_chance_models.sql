-- The parameters of the chance to engage, fitted on the workspace's own history: one row for reading, one for clicks
-- alone, one a source with an alpha and beta of its own. All are replaced at each fit.
CREATE TABLE chance_models (
  id INTEGER PRIMARY KEY,
  kind TEXT NOT NULL CHECK (kind IN ('reading', 'clicking', 'source')),
  source INTEGER REFERENCES sources (id),
  alpha REAL NOT NULL CHECK (alpha > 0),
  beta REAL NOT NULL CHECK (beta > 0),
  gamma REAL NOT NULL CHECK (gamma > 0),
  delta REAL NOT NULL CHECK (delta > 0),
  people INTEGER NOT NULL,
  messages INTEGER NOT NULL,
  intercept REAL NOT NULL, -- of the adjustment to what the last mailings showed; 0 and 1 for none
  slope REAL NOT NULL CHECK (slope > 0),
  CHECK ((kind = 'source') = (source IS NOT NULL))
) STRICT;
CREATE INDEX chance_models_of_source ON chance_models (source);

-- When that was, how many deliveries there were, and the seconds within which 95% of engagement came. One row.
CREATE TABLE chance_fits (
  id INTEGER PRIMARY KEY CHECK (id = 1),
  fitted_at INTEGER NOT NULL,
  deliveries INTEGER NOT NULL,
  settled INTEGER NOT NULL CHECK (settled > 0)
) STRICT;

-- The last time the score was held against what came, as JSON. One row.
CREATE TABLE score_checks (
  id INTEGER PRIMARY KEY CHECK (id = 1),
  checked_at INTEGER NOT NULL,
  found TEXT NOT NULL
) STRICT;

-- Of each mailing that is settled: how many it was delivered to, how many of them engaged, how many were expected to as
-- their chances stood just before it, and the variance that those chances give.
CREATE TABLE mailings_expected (
  message INTEGER PRIMARY KEY REFERENCES messages (id),
  began_at INTEGER NOT NULL,
  people INTEGER NOT NULL,
  observed INTEGER NOT NULL,
  expected REAL NOT NULL,
  variance REAL NOT NULL
) STRICT;

-- The chance to engage that somebody had when the delivery was planned, in ten-thousandths.
ALTER TABLE deliveries ADD COLUMN chance INTEGER;

-- Month ends were counted with the former score.
DELETE FROM base_points;
