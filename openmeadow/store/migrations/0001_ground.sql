CREATE TABLE settings (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;

CREATE TABLE users (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  role TEXT NOT NULL CHECK (role IN ('analyst', 'writer', 'observer')),
  password TEXT NOT NULL,
  totp_secret TEXT,
  email TEXT,
  token_hash TEXT UNIQUE
);
CREATE TABLE entries_once (token_hash TEXT PRIMARY KEY, user INTEGER NOT NULL REFERENCES users) WITHOUT ROWID;

CREATE TABLE activity (
  id INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  act TEXT NOT NULL,
  what TEXT NOT NULL,
  people INTEGER NOT NULL DEFAULT 0
);

CREATE TABLE jobs (
  id INTEGER PRIMARY KEY,
  kind TEXT NOT NULL,
  arguments TEXT NOT NULL,
  state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'working', 'finished', 'failed')),
  done INTEGER NOT NULL DEFAULT 0,
  total INTEGER NOT NULL DEFAULT 0,
  outcome TEXT,
  who TEXT NOT NULL,
  made_at INTEGER NOT NULL,
  changed_at INTEGER NOT NULL
);

CREATE TABLE doors (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE);
CREATE TABLE subscribers (
  id INTEGER PRIMARY KEY,
  email TEXT NOT NULL,
  email_key TEXT NOT NULL UNIQUE,
  name TEXT,
  joined_at INTEGER NOT NULL,
  time_zone TEXT,
  language TEXT,
  country TEXT,
  provider INTEGER NOT NULL DEFAULT 0,
  door INTEGER REFERENCES doors,
  fields TEXT NOT NULL DEFAULT '{}',
  erased_at INTEGER,
  rejoined_at INTEGER
);
CREATE TABLE field_names (name TEXT PRIMARY KEY) WITHOUT ROWID;
CREATE TABLE lists (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE);
CREATE TABLE list_members (
  list INTEGER NOT NULL REFERENCES lists,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  at INTEGER NOT NULL,
  PRIMARY KEY (list, subscriber)
) WITHOUT ROWID;
CREATE TABLE labels (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE);
CREATE TABLE subscriber_labels (
  label INTEGER NOT NULL REFERENCES labels,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  PRIMARY KEY (label, subscriber)
) WITHOUT ROWID;

CREATE TABLE purposes (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE);
CREATE TABLE consent_entries (
  id INTEGER PRIMARY KEY,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  purpose INTEGER NOT NULL REFERENCES purposes,
  channel TEXT NOT NULL DEFAULT 'email',
  state INTEGER NOT NULL,
  at INTEGER NOT NULL,
  source TEXT,
  wording TEXT,
  UNIQUE (subscriber, purpose, channel, state, at)
);
CREATE TABLE suppressions (
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  reason INTEGER NOT NULL,
  at INTEGER NOT NULL,
  source TEXT NOT NULL,
  PRIMARY KEY (subscriber, reason)
) WITHOUT ROWID;

CREATE TABLE messages (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE,
  purpose INTEGER REFERENCES purposes
);
CREATE TABLE links (
  id INTEGER PRIMARY KEY,
  message INTEGER NOT NULL REFERENCES messages,
  url TEXT NOT NULL,
  trap INTEGER NOT NULL DEFAULT 0,
  UNIQUE (message, url)
);
CREATE TABLE agents (id INTEGER PRIMARY KEY, agent TEXT NOT NULL, ip TEXT NOT NULL, UNIQUE (agent, ip));
CREATE TABLE events (
  id INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  kind INTEGER NOT NULL,
  subscriber INTEGER NOT NULL,
  message INTEGER NOT NULL DEFAULT 0,
  link INTEGER NOT NULL DEFAULT 0,
  agent INTEGER NOT NULL DEFAULT 0,
  value REAL NOT NULL DEFAULT 0,
  code TEXT,
  diagnostic TEXT,
  outside_id TEXT,
  UNIQUE (at, kind, subscriber, message, link)
);
CREATE INDEX events_of_subscriber ON events (subscriber);
CREATE INDEX events_of_trouble ON events (message) WHERE kind = 4 OR kind >= 9;
CREATE UNIQUE INDEX events_by_outside_id ON events (outside_id) WHERE outside_id IS NOT NULL;
CREATE TABLE events_aside (
  id INTEGER PRIMARY KEY,
  email_key TEXT NOT NULL,
  row TEXT NOT NULL UNIQUE
);
CREATE INDEX events_aside_by_email ON events_aside (email_key);

CREATE TABLE segments (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  rule TEXT NOT NULL,
  made_at INTEGER NOT NULL,
  changed_at INTEGER NOT NULL
);

CREATE TABLE domains (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE,
  token TEXT NOT NULL,
  selector TEXT,
  private_key TEXT,
  public_key TEXT,
  state TEXT NOT NULL DEFAULT 'unknown',
  records TEXT NOT NULL DEFAULT '[]',
  checked_at INTEGER
);
CREATE TABLE from_addresses (
  id INTEGER PRIMARY KEY,
  domain INTEGER NOT NULL REFERENCES domains,
  address TEXT NOT NULL UNIQUE,
  asked_at INTEGER,
  confirmed_at INTEGER
);

CREATE TABLE campaigns (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  purpose INTEGER REFERENCES purposes,
  from_address INTEGER REFERENCES from_addresses,
  from_name TEXT NOT NULL DEFAULT '',
  subject TEXT NOT NULL DEFAULT '',
  preview TEXT NOT NULL DEFAULT '',
  html TEXT NOT NULL DEFAULT '',
  plain TEXT NOT NULL DEFAULT '',
  plain_by_hand INTEGER NOT NULL DEFAULT 0,
  segments_in TEXT NOT NULL DEFAULT '[]',
  segments_out TEXT NOT NULL DEFAULT '[]',
  plan TEXT NOT NULL DEFAULT '{}',
  seed INTEGER NOT NULL,
  state TEXT NOT NULL DEFAULT 'draft'
    CHECK (state IN ('draft', 'planned', 'sending', 'held', 'finished', 'stopped')),
  sieve TEXT NOT NULL DEFAULT '[]',
  message INTEGER REFERENCES messages,
  made_at INTEGER NOT NULL,
  started_at INTEGER
);
CREATE TABLE passes (
  id INTEGER PRIMARY KEY,
  campaign INTEGER NOT NULL REFERENCES campaigns,
  kind TEXT NOT NULL CHECK (kind IN ('first', 'resend')),
  arms TEXT NOT NULL DEFAULT '[]',
  held_share REAL NOT NULL DEFAULT 0,
  UNIQUE (campaign, kind)
);
CREATE TABLE batches (
  id INTEGER PRIMARY KEY,
  pass INTEGER NOT NULL REFERENCES passes,
  n INTEGER NOT NULL,
  due_at INTEGER NOT NULL,
  state TEXT NOT NULL DEFAULT 'waiting'
    CHECK (state IN ('waiting', 'going out', 'gone', 'held', 'stopped')),
  people INTEGER NOT NULL DEFAULT 0,
  gone_at INTEGER,
  UNIQUE (pass, n)
);
CREATE INDEX batches_due ON batches (state, due_at);
CREATE TABLE deliveries (
  id INTEGER PRIMARY KEY,
  pass INTEGER NOT NULL REFERENCES passes,
  batch INTEGER NOT NULL REFERENCES batches,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  arm INTEGER NOT NULL DEFAULT 0,
  state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN
    ('waiting', 'handing over', 'handed over', 'deferred', 'failed', 'in doubt', 'passed over')),
  reason TEXT,
  band INTEGER NOT NULL DEFAULT 0,
  attempts INTEGER NOT NULL DEFAULT 0,
  next_at INTEGER,
  changed_at INTEGER,
  UNIQUE (pass, subscriber)
);
CREATE INDEX deliveries_of_batch ON deliveries (batch, state);
CREATE INDEX deliveries_of_subscriber ON deliveries (subscriber);
CREATE INDEX deliveries_unsettled ON deliveries (state) WHERE state IN ('handing over', 'deferred', 'in doubt');
CREATE TABLE clock_moves (
  id INTEGER PRIMARY KEY,
  target INTEGER,
  state TEXT NOT NULL DEFAULT 'waiting',
  begun_from INTEGER NOT NULL,
  reached INTEGER NOT NULL
);
