-- Streams: the bytes of SSH connections through the service, which cannot read them. Who, to what, from where, since when, how many, why it ended.
CREATE TABLE streams (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id bigint NOT NULL REFERENCES instances,
    operator_id bigint NOT NULL REFERENCES operators,
    operator    text NOT NULL,
    address     text NOT NULL,                  -- of whoever asked
    way         text NOT NULL,                  -- service: by the service's own address; agent: through the instance's agent
    target      text NOT NULL,                  -- the address and port that the service dialled; of an agent, its machine's loopback
    seen_from   text NOT NULL DEFAULT '',       -- the address that the server sees
    reason      text NOT NULL DEFAULT '',
    journal_id  bigint NOT NULL,                -- the entry of its begin
    begun_at    timestamptz NOT NULL DEFAULT clock_timestamp(),
    seen_at     timestamptz NOT NULL DEFAULT clock_timestamp(), -- whichever replica carries it says so again and again
    up          bigint NOT NULL DEFAULT 0,      -- bytes to the server
    down        bigint NOT NULL DEFAULT 0,      -- and from it
    end_by      text NOT NULL DEFAULT '',       -- who has asked for its end
    ended_at    timestamptz,
    why         text NOT NULL DEFAULT ''        -- why it ended, as a code: see core/streams
);
CREATE INDEX streams_open ON streams (operator_id) WHERE ended_at IS NULL;
CREATE INDEX streams_of ON streams (instance_id, id DESC);
-- Pairs that were made for one session, and are forgotten once they open nothing any more.
CREATE TABLE stream_keys (
    key_id    bigint PRIMARY KEY REFERENCES keys ON DELETE CASCADE,
    stream_id bigint NOT NULL UNIQUE REFERENCES streams
);
-- One that is opened or ends has its instance judged anew; its counts do not.
CREATE FUNCTION judge_streams() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT n.instance_id FROM changed n JOIN before o ON o.id = n.id WHERE o.ended_at IS DISTINCT FROM n.ended_at;
    RETURN NULL;
END $$;
CREATE TRIGGER judge_i AFTER INSERT ON streams REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_their_instances();
CREATE TRIGGER judge_u AFTER UPDATE ON streams REFERENCING OLD TABLE AS before NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_streams();
