-- Instances without SSH: their image takes no key, and gives a first password that the cloud encrypts to the launch key.
ALTER TABLE instances ADD COLUMN desktop boolean NOT NULL DEFAULT false;
CREATE TABLE first_passwords (
    instance_id bigint PRIMARY KEY REFERENCES instances,
    key_id      bigint REFERENCES keys ON DELETE SET NULL, -- that it is encrypted to; NULL for one the ledger does not know
    fingerprint text NOT NULL,                             -- of that key; '' if nobody knows
    handed_at   timestamptz,                               -- the cipher text was last handed over
    handed_to   text NOT NULL DEFAULT '',
    changed_at  timestamptz,                               -- somebody recorded that it was changed: the key no longer matters
    changed_by  text NOT NULL DEFAULT ''
);
CREATE INDEX ON first_passwords (key_id);
CREATE FUNCTION judge_password() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT instance_id FROM changed;
    INSERT INTO to_judge (key_id) SELECT DISTINCT key_id FROM changed WHERE key_id IS NOT NULL;
    RETURN NULL;
END $$;
CREATE TRIGGER judge_i AFTER INSERT ON first_passwords REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_password();
CREATE TRIGGER judge_u AFTER UPDATE ON first_passwords REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_password();
-- A key that is lost, exposed or found again: what its instances' first passwords come to.
CREATE FUNCTION judge_password_keys() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT p.instance_id FROM changed c JOIN first_passwords p ON p.key_id = c.id;
    RETURN NULL;
END $$;
CREATE TRIGGER judge_password_keys AFTER UPDATE ON keys REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_password_keys();
