-- Machines that a copy has taken the place of: each is kept, stopped, until it is removed after a word, or takes its place again.
CREATE TABLE kept_machines (
    work_id     bigint PRIMARY KEY REFERENCES work,  -- the work that keeps it
    instance_id bigint NOT NULL REFERENCES instances,
    cloud       text NOT NULL,
    cloud_id    text NOT NULL,
    until       timestamptz NOT NULL,                -- from then on it waits for a word
    week_price  double precision NOT NULL,           -- of its root volume, as far as that is known
    currency    text NOT NULL,
    asked_at    timestamptz,                         -- since when it waits for a word
    gone_at     timestamptz                          -- when it was removed, or took its place again
);
CREATE INDEX kept_machines_at_hand ON kept_machines (instance_id) WHERE gone_at IS NULL;
-- One whose time is over stands on today.
CREATE FUNCTION judge_kept() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT instance_id FROM changed;
    RETURN NULL;
END $$;
CREATE TRIGGER judge_u AFTER UPDATE ON kept_machines REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_kept();
