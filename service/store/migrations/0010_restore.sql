-- An instance that rescues others: it was adopted for that, and the work that has it now.
ALTER TABLE instances ADD COLUMN rescue boolean NOT NULL DEFAULT false,
    ADD COLUMN rescue_for bigint REFERENCES work,
    ADD COLUMN rescue_cloud_id text NOT NULL DEFAULT '', -- as the cloud calls it, also of one that was adopted
    -- What "works" means for it: tcp:PORT, http://:PORT/PATH.
    ADD COLUMN checks jsonb NOT NULL DEFAULT '[]',
    -- The routes back in that were open when it was last looked at; NULL before that.
    ADD COLUMN ways_back jsonb,
    ADD COLUMN ways_back_at timestamptz;

-- What an outside probe saw while a piece of work went on: stretches of time in
-- which a server answered, or did not. Between two, nobody looked.
CREATE TABLE work_knocks (
    work_id bigint NOT NULL REFERENCES work,
    from_at timestamptz NOT NULL,
    to_at   timestamptz NOT NULL,
    up      boolean NOT NULL
);
CREATE INDEX work_knocks_by_work ON work_knocks (work_id, from_at);

-- The service's key for one piece of work, sealed like a steward's; gone with its end.
CREATE TABLE work_keys (
    work_id  bigint PRIMARY KEY REFERENCES work,
    blob     bytea NOT NULL,
    sealed   bytea NOT NULL,
    data_key bigint GENERATED ALWAYS AS (
        CASE WHEN substring(sealed from 1 for 4) = '\x504c7331'::bytea
            THEN ('x' || encode(substring(sealed from 5 for 8), 'hex'))::bit(64)::bigint END) STORED
        REFERENCES data_keys (id)
);
