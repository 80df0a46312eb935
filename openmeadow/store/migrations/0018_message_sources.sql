-- where replies go; test copies as they went over the wire
ALTER TABLE campaigns ADD COLUMN reply_to TEXT NOT NULL DEFAULT '';
CREATE TABLE test_copies (
  id INTEGER PRIMARY KEY,
  campaign INTEGER NOT NULL REFERENCES campaigns ON DELETE CASCADE,
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  recipient TEXT NOT NULL,
  raw BLOB NOT NULL
) STRICT;
CREATE INDEX test_copies_of_campaign ON test_copies (campaign);
