-- What a cloud's lists of public keys held when they were last read: each list counted, and the entries that are
-- keys of the ledger.
CREATE TABLE key_lists (
    cloud   text NOT NULL,
    region  text NOT NULL,               -- '' for a list that is not of a region
    used    integer NOT NULL,
    most    integer NOT NULL,            -- how many it holds; 0 if the cloud does not say
    trouble text NOT NULL DEFAULT '',    -- why it could not be read the last time; what stands here is older then
    read_at timestamptz,
    PRIMARY KEY (cloud, region)
);
CREATE TABLE listed_keys (
    cloud    text NOT NULL,
    region   text NOT NULL,
    entry    text NOT NULL,              -- the cloud's own name for it
    name     text NOT NULL,
    key_id   bigint NOT NULL REFERENCES keys (id) ON DELETE CASCADE,
    first_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (cloud, region, entry)
);
CREATE INDEX ON listed_keys (key_id);
-- A key that nobody should launch with stands on today as long as a list has it.
CREATE FUNCTION judge_listed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (key_id) SELECT DISTINCT key_id FROM changed;
    RETURN NULL;
END $$;
CREATE TRIGGER judge_i AFTER INSERT ON listed_keys REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_listed();
CREATE TRIGGER judge_d AFTER DELETE ON listed_keys REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_listed();
