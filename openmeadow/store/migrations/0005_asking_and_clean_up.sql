-- what a campaign is, by the gate's kinds; what a consent request asks about; people chosen one by one
ALTER TABLE campaigns ADD COLUMN kind TEXT NOT NULL DEFAULT 'campaign' CHECK (kind IN ('campaign', 'consent request'));
ALTER TABLE campaigns ADD COLUMN asks TEXT NOT NULL DEFAULT '[]';
CREATE TABLE campaign_people (
  campaign INTEGER NOT NULL REFERENCES campaigns ON DELETE CASCADE,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  side TEXT NOT NULL DEFAULT 'in' CHECK (side IN ('in', 'out')),
  PRIMARY KEY (campaign, side, subscriber)
) WITHOUT ROWID;

-- a prior relation, as somebody of the workspace stated it
CREATE TABLE relations (
  subscriber INTEGER PRIMARY KEY REFERENCES subscribers,
  words TEXT NOT NULL,
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  deed INTEGER
);

-- the clean-up: one stay a person and time, from the first try to its outcome
CREATE TABLE clean_up_stays (
  id INTEGER PRIMARY KEY,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  began_at INTEGER NOT NULL,
  tries INTEGER NOT NULL DEFAULT 0,
  asked_for_click INTEGER NOT NULL DEFAULT 0,
  next_at INTEGER NOT NULL,
  ended_at INTEGER,
  outcome TEXT CHECK (outcome IN ('let go', 'answered', 'not permitted any more'))
);
CREATE UNIQUE INDEX clean_up_open ON clean_up_stays (subscriber) WHERE ended_at IS NULL;

ALTER TABLE forms ADD COLUMN mail_subject TEXT NOT NULL DEFAULT '';
ALTER TABLE forms ADD COLUMN mail_text TEXT NOT NULL DEFAULT '';
