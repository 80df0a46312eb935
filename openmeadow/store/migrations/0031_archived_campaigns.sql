-- When a campaign was put away: it is left out of the list, with everything of it kept.
ALTER TABLE campaigns ADD COLUMN archived_at INTEGER;
