-- Steward keys are encrypted with a data key, and that, sealed with the identity
-- that lies outside the database, stands here. A survey of many then opens one
-- seal and not one an instance, and another identity changes one row.
CREATE TABLE data_keys (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    sealed  bytea NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now()
);

-- "PLs1", the data key's id (8 bytes, big-endian), a nonce, what is encrypted;
-- or, from before, an age file. What names a data key keeps it from being deleted.
ALTER TABLE steward_keys ADD COLUMN data_key bigint GENERATED ALWAYS AS (
    CASE WHEN substring(sealed from 1 for 4) = '\x504c7331'::bytea
        THEN ('x' || encode(substring(sealed from 5 for 8), 'hex'))::bit(64)::bigint END) STORED
    REFERENCES data_keys (id);
CREATE INDEX steward_keys_data_key ON steward_keys (data_key);
