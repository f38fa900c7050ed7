-- Keys that a cloud lent on an instance for a while: each is looked for after its end, until it is seen gone.
CREATE TABLE lent_keys (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id   bigint NOT NULL REFERENCES instances,
    login_user    text NOT NULL,
    fingerprint   text NOT NULL,
    blob          bytea NOT NULL,
    lent_by       text NOT NULL,                  -- operator
    ends_at       timestamptz NOT NULL,
    asked_at      timestamptz,                    -- the server was last asked whether it takes it
    stays_at      timestamptz,                    -- when the server took it first, after its end
    withdrawal_id bigint REFERENCES work,         -- the work that takes it off
    gone_at       timestamptz,                    -- when the server refused it first, after its end
    UNIQUE (instance_id, fingerprint)
);
CREATE INDEX lent_keys_at_hand ON lent_keys (ends_at) WHERE gone_at IS NULL;
-- One that stays stands on today until it is gone.
CREATE FUNCTION judge_lent() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT instance_id FROM changed WHERE stays_at IS NOT NULL;
    RETURN NULL;
END $$;
CREATE TRIGGER judge_u AFTER UPDATE ON lent_keys REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_lent();
