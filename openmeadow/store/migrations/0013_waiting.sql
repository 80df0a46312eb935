-- Who waits in a batch is read a few at a time, by subscriber, also where a million wait.
DROP INDEX deliveries_of_batch;
CREATE INDEX deliveries_of_batch ON deliveries (batch, state, subscriber);
