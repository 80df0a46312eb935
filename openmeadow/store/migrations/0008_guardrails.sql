-- why a plan was held, as evidence; guardrails count from this moment on (a decision to go on begins them anew)
ALTER TABLE campaigns ADD COLUMN held_evidence TEXT NOT NULL DEFAULT '[]';
ALTER TABLE campaigns ADD COLUMN guard_from INTEGER NOT NULL DEFAULT 0;
CREATE INDEX deliveries_changed ON deliveries (pass, changed_at);
