-- Who has booked is asked for whenever a service message's recipients are counted.
CREATE INDEX events_of_booking ON events (subscriber, at) WHERE kind = 8;
