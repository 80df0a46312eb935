-- messages over days, per person: what a sequence says, who stands where, what was passed, who waits to begin
ALTER TABLE sequences ADD COLUMN state TEXT NOT NULL DEFAULT 'draft' CHECK (state IN ('draft', 'running', 'paused', 'ended'));
ALTER TABLE sequences ADD COLUMN ladder TEXT NOT NULL DEFAULT '{}';
ALTER TABLE sequences ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
ALTER TABLE sequences ADD COLUMN seed INTEGER NOT NULL DEFAULT 1;
ALTER TABLE sequences ADD COLUMN made_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE sequences ADD COLUMN started_at INTEGER;
ALTER TABLE sequences ADD COLUMN purpose INTEGER REFERENCES purposes;
ALTER TABLE sequences ADD COLUMN from_address INTEGER REFERENCES from_addresses;
ALTER TABLE sequences ADD COLUMN from_name TEXT NOT NULL DEFAULT '';
ALTER TABLE sequences ADD COLUMN seen_event INTEGER NOT NULL DEFAULT 0;
ALTER TABLE sequences ADD COLUMN seen_consent INTEGER NOT NULL DEFAULT 0;
ALTER TABLE sequences ADD COLUMN looked_at INTEGER NOT NULL DEFAULT 0;
CREATE TABLE sequence_versions (
  sequence INTEGER NOT NULL REFERENCES sequences ON DELETE CASCADE,
  n INTEGER NOT NULL,
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  ladder TEXT NOT NULL,
  PRIMARY KEY (sequence, n)
);

-- a stay is one person's run; step and due_at say where they stand (no due_at: their message is on its way)
ALTER TABLE sequence_stays ADD COLUMN run INTEGER NOT NULL DEFAULT 1;
ALTER TABLE sequence_stays ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
ALTER TABLE sequence_stays ADD COLUMN lane INTEGER NOT NULL DEFAULT 1;
ALTER TABLE sequence_stays ADD COLUMN step INTEGER NOT NULL DEFAULT 0;
ALTER TABLE sequence_stays ADD COLUMN since INTEGER NOT NULL DEFAULT 0;
ALTER TABLE sequence_stays ADD COLUMN due_at INTEGER;
ALTER TABLE sequence_stays ADD COLUMN why_left TEXT;
ALTER TABLE sequence_stays ADD COLUMN held_back INTEGER NOT NULL DEFAULT 0;
CREATE UNIQUE INDEX sequence_stays_once ON sequence_stays (sequence, subscriber, run);
CREATE UNIQUE INDEX sequence_stays_inside ON sequence_stays (sequence, subscriber) WHERE left_at IS NULL;
CREATE INDEX sequence_stays_due ON sequence_stays (sequence, due_at) WHERE left_at IS NULL AND due_at IS NOT NULL;
CREATE INDEX sequence_stays_mailed ON sequence_stays (sequence) WHERE left_at IS NULL AND due_at IS NULL;
CREATE INDEX sequence_stays_of ON sequence_stays (subscriber);
CREATE TABLE sequence_passages (
  stay INTEGER NOT NULL REFERENCES sequence_stays,
  step INTEGER NOT NULL,
  at INTEGER NOT NULL,
  PRIMARY KEY (stay, step)
) WITHOUT ROWID;
CREATE TABLE sequence_queue (
  id INTEGER PRIMARY KEY,
  sequence INTEGER NOT NULL REFERENCES sequences,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  came_at INTEGER NOT NULL,
  UNIQUE (sequence, subscriber)
);
-- for whom the condition of entering held at the last look
CREATE TABLE sequence_holds (
  sequence INTEGER NOT NULL REFERENCES sequences,
  subscriber INTEGER NOT NULL,
  PRIMARY KEY (sequence, subscriber)
) WITHOUT ROWID;

-- a step that mails is written, checked and measured as a campaign; its deliveries are one a person and stay
ALTER TABLE campaigns ADD COLUMN sequence INTEGER REFERENCES sequences;
ALTER TABLE campaigns ADD COLUMN step INTEGER;
ALTER TABLE campaigns ADD COLUMN gate TEXT NOT NULL DEFAULT '';
CREATE UNIQUE INDEX campaigns_of_sequence ON campaigns (sequence, step) WHERE sequence IS NOT NULL;
CREATE TABLE deliveries_anew (
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
  version INTEGER,
  stay INTEGER NOT NULL DEFAULT 0,
  UNIQUE (pass, subscriber, stay)
);
INSERT INTO deliveries_anew (id, pass, batch, subscriber, arm, state, reason, band, attempts, next_at, changed_at, version)
  SELECT id, pass, batch, subscriber, arm, state, reason, band, attempts, next_at, changed_at, version FROM deliveries;
DROP TABLE deliveries;
ALTER TABLE deliveries_anew RENAME TO deliveries;
CREATE INDEX deliveries_of_batch ON deliveries (batch, state, subscriber);
CREATE INDEX deliveries_of_subscriber ON deliveries (subscriber);
CREATE INDEX deliveries_unsettled ON deliveries (state) WHERE state IN ('handing over', 'deferred', 'in doubt');
CREATE INDEX deliveries_changed ON deliveries (pass, changed_at);
CREATE INDEX deliveries_of_stay ON deliveries (stay) WHERE stay > 0;
