-- Why a receiver did not follow the policy: "forwarded", "mailing list", "local policy" (RFC 7489, policy override).
ALTER TABLE aggregate_rows ADD COLUMN override TEXT NOT NULL DEFAULT '';
