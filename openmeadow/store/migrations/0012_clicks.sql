CREATE INDEX events_of_click ON events (link) WHERE kind = 6 AND link IS NOT NULL;
