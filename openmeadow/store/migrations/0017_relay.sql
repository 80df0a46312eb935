-- what real connections to the relay were, one row for each kind; and whether it takes mail now
CREATE TABLE relay_connections (
  id INTEGER PRIMARY KEY,
  host TEXT NOT NULL,
  port INTEGER NOT NULL,
  mode TEXT NOT NULL,
  version TEXT NOT NULL,
  verified INTEGER NOT NULL CHECK (verified IN (0, 1)),
  signed_in INTEGER NOT NULL CHECK (signed_in IN (0, 1)),
  first_at INTEGER NOT NULL,
  last_at INTEGER NOT NULL,
  connections INTEGER NOT NULL,
  UNIQUE (host, port, mode, version, verified, signed_in)
) STRICT;
CREATE TABLE relay_status (
  id INTEGER PRIMARY KEY CHECK (id = 1),
  state TEXT NOT NULL CHECK (state IN ('up', 'away')),
  since INTEGER NOT NULL,
  meaning TEXT NOT NULL
) STRICT;
