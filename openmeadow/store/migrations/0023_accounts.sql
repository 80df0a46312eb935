-- an account may be invited before it has a password; a code is taken once; too many failures are waited out
CREATE TABLE users_new (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  role TEXT NOT NULL CHECK (role IN ('analyst', 'writer', 'observer')),
  password TEXT NOT NULL DEFAULT '',
  totp_secret TEXT,
  totp_step INTEGER NOT NULL DEFAULT 0,
  email TEXT,
  made_at INTEGER NOT NULL DEFAULT 0
) STRICT;
INSERT INTO users_new (id, name, role, password, totp_secret, email)
  SELECT id, name, role, password, totp_secret, email FROM users;
CREATE TABLE tokens (
  id INTEGER PRIMARY KEY,
  user INTEGER NOT NULL REFERENCES users ON DELETE CASCADE,
  name TEXT NOT NULL,
  hash TEXT NOT NULL UNIQUE,
  scope TEXT NOT NULL CHECK (scope IN ('read', 'events', 'all')),
  made_at INTEGER NOT NULL,
  expires_at INTEGER,
  used_at INTEGER
) STRICT;
CREATE INDEX tokens_of_user ON tokens (user);
INSERT INTO tokens (user, name, hash, scope, made_at)
  SELECT id, 'personal token', token_hash, 'all', unixepoch() FROM users WHERE token_hash IS NOT NULL;
DROP TABLE users;
ALTER TABLE users_new RENAME TO users;

-- times of this part are the machine's, also where a workspace has a clock of its own
CREATE TABLE sessions (
  hash TEXT PRIMARY KEY,
  user INTEGER NOT NULL REFERENCES users ON DELETE CASCADE,
  csrf TEXT NOT NULL,
  made_at INTEGER NOT NULL,
  seen_at INTEGER NOT NULL,
  proved_at INTEGER NOT NULL,
  agent TEXT NOT NULL,
  network TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX sessions_of_user ON sessions (user);
CREATE TABLE recovery_codes (
  user INTEGER NOT NULL REFERENCES users ON DELETE CASCADE,
  hash TEXT NOT NULL,
  PRIMARY KEY (user, hash)
) STRICT, WITHOUT ROWID;
DROP TABLE entries_once;
CREATE TABLE one_time_links (
  hash TEXT PRIMARY KEY,
  user INTEGER NOT NULL REFERENCES users ON DELETE CASCADE,
  use TEXT NOT NULL CHECK (use IN ('sign in', 'set password')),
  expires_at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX one_time_links_of_user ON one_time_links (user);
CREATE TABLE sign_in_failures (
  account TEXT PRIMARY KEY,
  failures INTEGER NOT NULL,
  wait_until INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
