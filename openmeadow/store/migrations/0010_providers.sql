-- what a provider itself says of a day: its own figures, brought in
CREATE TABLE provider_figures (
  provider TEXT NOT NULL,
  domain TEXT NOT NULL DEFAULT '',
  day TEXT NOT NULL,
  spam_rate REAL,
  reputation TEXT,
  taken_at INTEGER NOT NULL,
  PRIMARY KEY (provider, domain, day)
) WITHOUT ROWID;
