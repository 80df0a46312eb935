-- A label to find segments by, and a watch on one's size: alert_share is the share (0 to 1) by which it may differ from
-- alert_count, what it counted at alert_at, before it is said on Today.
ALTER TABLE segments ADD COLUMN label TEXT NOT NULL DEFAULT '';
ALTER TABLE segments ADD COLUMN alert_share REAL;
ALTER TABLE segments ADD COLUMN alert_count INTEGER;
ALTER TABLE segments ADD COLUMN alert_at INTEGER;
