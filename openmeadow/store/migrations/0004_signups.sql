CREATE TABLE forms (
  id INTEGER PRIMARY KEY,
  list INTEGER NOT NULL UNIQUE REFERENCES lists,
  purposes TEXT NOT NULL,
  intro TEXT NOT NULL DEFAULT '',
  ask_name INTEGER NOT NULL DEFAULT 1,
  confirm INTEGER NOT NULL DEFAULT 1,
  reminders TEXT NOT NULL DEFAULT '[2, 6]',
  is_open INTEGER NOT NULL DEFAULT 1
);
CREATE TABLE signups (
  id INTEGER PRIMARY KEY,
  form INTEGER NOT NULL REFERENCES forms,
  subscriber INTEGER NOT NULL,
  purposes TEXT NOT NULL,
  at INTEGER NOT NULL,
  network TEXT NOT NULL,
  state TEXT NOT NULL DEFAULT 'awaiting' CHECK (state IN ('awaiting', 'confirmed', 'lapsed')),
  mails INTEGER NOT NULL DEFAULT 0,
  next_mail_at INTEGER,
  confirmed_at INTEGER
);
CREATE INDEX signups_due ON signups (state, next_mail_at);
CREATE INDEX signups_of_network ON signups (network, at);
CREATE TABLE address_changes (
  id INTEGER PRIMARY KEY,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  email TEXT NOT NULL,
  asked_at INTEGER NOT NULL,
  done_at INTEGER
);
