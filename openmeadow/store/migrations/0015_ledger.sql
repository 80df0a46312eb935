-- a ledger of a million is written at once: what has not changed yet needs no place among the changes
DROP INDEX deliveries_changed;
CREATE INDEX deliveries_changed ON deliveries (pass, changed_at) WHERE changed_at IS NOT NULL;
