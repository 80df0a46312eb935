-- a message of ours that goes round: sent, back at the intake, its one-click pressed
ALTER TABLE domains ADD COLUMN proof_sent_at INTEGER;
ALTER TABLE domains ADD COLUMN proof_back_at INTEGER;
ALTER TABLE domains ADD COLUMN proof_click_at INTEGER;
