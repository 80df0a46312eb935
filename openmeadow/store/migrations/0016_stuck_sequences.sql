-- a sequence that could not go on pauses itself, and says why
ALTER TABLE sequences ADD COLUMN paused_why TEXT NOT NULL DEFAULT '';
ALTER TABLE sequences DROP COLUMN looked_at;
CREATE INDEX sequence_queue_order ON sequence_queue (sequence); -- and by id, which is the order they came in
-- by "or": an index on "in (...)" is not used where one of its states is asked for, and costs every row that is written
DROP INDEX deliveries_unsettled;
CREATE INDEX deliveries_unsettled ON deliveries (state)
  WHERE state = 'handing over' OR state = 'deferred' OR state = 'in doubt';
-- a plan whose batches another program sends; what came of them is told by the event log
ALTER TABLE campaigns ADD COLUMN elsewhere INTEGER NOT NULL DEFAULT 0;
