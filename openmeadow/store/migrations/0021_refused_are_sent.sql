-- who was refused while it was sent counts as tried and bounced, like who bounced later
INSERT OR IGNORE INTO events (at, kind, subscriber, message, link, agent, value, outside_id)
  SELECT e.at, 1, e.subscriber, e.message, 0, 0, 0, e.outside_id || ' sent' FROM events e
  WHERE e.kind = 4 AND e.outside_id LIKE 'delivery %';
INSERT INTO settings VALUES ('events_version', '1') ON CONFLICT (name) DO UPDATE SET value = value + 1;
