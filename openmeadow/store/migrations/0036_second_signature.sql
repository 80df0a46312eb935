-- A key of the other kind can sign beside the one in use: it waits as the next one does, and signs once it is published.
CREATE TABLE new_dkim_keys (
  id INTEGER PRIMARY KEY,
  domain INTEGER NOT NULL REFERENCES domains,
  selector TEXT NOT NULL,
  private_key TEXT NOT NULL,
  public_key TEXT NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('next', 'second', 'old')),
  made_at INTEGER NOT NULL,
  retired_at INTEGER,
  beside INTEGER NOT NULL DEFAULT 0,
  UNIQUE (domain, selector)
) STRICT;
INSERT INTO new_dkim_keys (id, domain, selector, private_key, public_key, state, made_at, retired_at)
  SELECT id, domain, selector, private_key, public_key, state, made_at, retired_at FROM dkim_keys;
DROP TABLE dkim_keys;
ALTER TABLE new_dkim_keys RENAME TO dkim_keys;
