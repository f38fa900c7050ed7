-- Accesses that were withdrawn: what opened, from when until when, and which
-- work ended it. The access itself is gone from the ledger with its evidence.
CREATE TABLE former_access (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id bigint NOT NULL REFERENCES instances,
    key_id      bigint REFERENCES keys ON DELETE SET NULL,
    login_user  text NOT NULL,
    fingerprint text NOT NULL,
    began_at    timestamptz NOT NULL,
    ended_at    timestamptz NOT NULL DEFAULT clock_timestamp(),
    work_id     bigint REFERENCES work,
    why         text NOT NULL
);
CREATE INDEX former_access_by_instance ON former_access (instance_id, fingerprint);
CREATE INDEX former_access_by_key ON former_access (key_id);

-- Surveys that are wanted at a time of their own, besides the policy's.
CREATE TABLE survey_wants (
    instance_id bigint NOT NULL REFERENCES instances,
    at          timestamptz NOT NULL,
    why         text NOT NULL,
    PRIMARY KEY (instance_id, at)
);
CREATE INDEX survey_wants_by_time ON survey_wants (at);

-- The terms on which an access was shared: the server enforces what it can, and
-- the service withdraws it after its end.
CREATE TABLE access_terms (
    access_id  bigint PRIMARY KEY REFERENCES access ON DELETE CASCADE,
    until_at   timestamptz,
    from_range text NOT NULL DEFAULT '',
    command    text NOT NULL DEFAULT '',
    reason     text NOT NULL DEFAULT '',
    enforced   boolean NOT NULL,
    operator   text NOT NULL,
    work_id    bigint REFERENCES work
);

-- The instances of a rotation of many, in their waves.
CREATE TABLE fleet_members (
    work_id     bigint NOT NULL REFERENCES work,
    n           integer NOT NULL,
    instance_id bigint NOT NULL REFERENCES instances,
    old_key     text NOT NULL,
    new_key     text NOT NULL,
    wave        integer NOT NULL,
    child_id    bigint REFERENCES work,
    trouble     text NOT NULL DEFAULT '',    -- why its part could not even be begun
    PRIMARY KEY (work_id, n)
);
