-- Keys whose signature is an operator's word.
CREATE TABLE operator_keys (
    operator_id bigint NOT NULL REFERENCES operators ON DELETE CASCADE,
    key_id      bigint NOT NULL REFERENCES keys ON DELETE CASCADE,
    set_by      text NOT NULL,
    set_at      timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (operator_id, key_id)
);

-- Words that large work waited for: who gave them, and how.
CREATE TABLE work_words (
    work_id  bigint NOT NULL REFERENCES work,
    operator text NOT NULL,
    at       timestamptz NOT NULL DEFAULT clock_timestamp(),
    sort     text NOT NULL, -- second or signature
    detail   text NOT NULL, -- fingerprint of the key that signed
    PRIMARY KEY (work_id, operator, sort)
);

-- Nobody gets into the instance any more once its part is done: counted out beforehand.
ALTER TABLE fleet_members ADD COLUMN cut_off boolean NOT NULL DEFAULT false;

-- Whoever had an exposed key may have read a host's private half.
ALTER TABLE host_keys ADD COLUMN doubtful_at timestamptz, ADD COLUMN doubtful_why text NOT NULL DEFAULT '';

-- When the steward's key was placed, and the next one until it has taken its place.
ALTER TABLE steward_keys ADD COLUMN placed_at timestamptz NOT NULL DEFAULT clock_timestamp();
CREATE INDEX steward_keys_by_age ON steward_keys (placed_at);
CREATE TABLE steward_next (
    instance_id bigint PRIMARY KEY REFERENCES instances,
    blob        bytea NOT NULL,
    sealed      bytea NOT NULL,
    data_key    bigint GENERATED ALWAYS AS (
        CASE WHEN substring(sealed from 1 for 4) = '\x504c7331'::bytea
            THEN ('x' || encode(substring(sealed from 5 for 8), 'hex'))::bit(64)::bigint END) STORED
        REFERENCES data_keys (id)
);
