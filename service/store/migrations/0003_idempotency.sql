-- The answer to a request that was sent twice: the same piece of work.

CREATE TABLE idempotency (
    operator_id bigint NOT NULL REFERENCES operators,
    key         text NOT NULL,
    sha256      bytea NOT NULL,
    instance_id bigint NOT NULL REFERENCES instances,
    created_at  timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (operator_id, key)
);
CREATE INDEX ON idempotency (created_at);
