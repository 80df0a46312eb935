-- an entry says which wording was shown, by its id and the hash of its text, by which form, on which page
ALTER TABLE consent_entries ADD COLUMN wording_id INTEGER REFERENCES wordings;
ALTER TABLE consent_entries ADD COLUMN wording_hash TEXT;
ALTER TABLE consent_entries ADD COLUMN form INTEGER REFERENCES forms;
ALTER TABLE consent_entries ADD COLUMN page TEXT;
CREATE INDEX consent_entries_of_wording_id ON consent_entries (wording_id) WHERE wording_id IS NOT NULL;
CREATE INDEX consent_entries_of_form ON consent_entries (form) WHERE form IS NOT NULL;
-- what a sign-up was shown: wordings by purpose, and the page; addresses that somebody had before, as keyed hashes
ALTER TABLE signups ADD COLUMN shown TEXT NOT NULL DEFAULT '{}';
ALTER TABLE signups ADD COLUMN page TEXT NOT NULL DEFAULT '';
CREATE TABLE old_addresses (
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  hash TEXT NOT NULL,
  PRIMARY KEY (subscriber, hash)
) STRICT, WITHOUT ROWID;
-- a change of address is asked for by the worker, and may be asked a few times a day only
ALTER TABLE address_changes ADD COLUMN mail_at INTEGER;
ALTER TABLE address_changes ADD COLUMN told_at INTEGER;
ALTER TABLE address_changes ADD COLUMN before TEXT NOT NULL DEFAULT '';
CREATE INDEX address_changes_due ON address_changes (mail_at) WHERE mail_at IS NOT NULL;
CREATE INDEX address_changes_to ON address_changes (email, asked_at);
CREATE INDEX address_changes_to_tell ON address_changes (done_at) WHERE done_at IS NOT NULL AND told_at IS NULL AND before <> '';
