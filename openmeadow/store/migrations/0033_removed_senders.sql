-- When a sending domain or a from address was removed: it is offered nowhere, and what was sent from it keeps its name.
ALTER TABLE domains ADD COLUMN removed_at INTEGER;
ALTER TABLE from_addresses ADD COLUMN removed_at INTEGER;
