-- a batch has its number and, in a resend, its variant; what went out late says so
CREATE TABLE batches_new (
  id INTEGER PRIMARY KEY,
  pass INTEGER NOT NULL REFERENCES passes,
  n INTEGER NOT NULL,
  variant INTEGER NOT NULL DEFAULT 0,
  due_at INTEGER NOT NULL,
  state TEXT NOT NULL DEFAULT 'waiting'
    CHECK (state IN ('waiting', 'going out', 'gone', 'held', 'stopped')),
  people INTEGER NOT NULL DEFAULT 0,
  gone_at INTEGER,
  late INTEGER NOT NULL DEFAULT 0,
  UNIQUE (pass, n, variant)
);
INSERT INTO batches_new (id, pass, n, variant, due_at, state, people, gone_at)
  SELECT b.id, b.pass, CASE WHEN q.kind = 'first' THEN b.n ELSE b.n % 1000 END,
    CASE WHEN q.kind = 'first' THEN 0 ELSE b.n / 1000 END, b.due_at, b.state, b.people, b.gone_at
  FROM batches b JOIN passes q ON q.id = b.pass;
DROP TABLE batches;
ALTER TABLE batches_new RENAME TO batches;
CREATE INDEX batches_due ON batches (state, due_at);
