-- What became of an agent's last upgrade, as it says itself when it comes.
ALTER TABLE agents ADD COLUMN last_upgrade text NOT NULL DEFAULT '';
