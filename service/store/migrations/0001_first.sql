-- Operators, the ways they sign in, and what they did.

CREATE TABLE operators (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name          text NOT NULL,
    name_fold     text NOT NULL UNIQUE,
    role          text NOT NULL CHECK (role IN ('viewer', 'operator', 'admin')),
    password_hash text NOT NULL,
    disabled_at   timestamptz,
    created_at    timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE tokens (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    operator_id bigint NOT NULL REFERENCES operators,
    name        text NOT NULL,
    role        text NOT NULL CHECK (role IN ('viewer', 'operator', 'admin')),
    sha256      bytea NOT NULL UNIQUE,
    created_at  timestamptz NOT NULL DEFAULT now(),
    expires_at  timestamptz NOT NULL,
    revoked_at  timestamptz,
    last_used_at   timestamptz,
    last_used_from text NOT NULL DEFAULT ''
);

CREATE TABLE sessions (
    sha256      bytea PRIMARY KEY,
    operator_id bigint NOT NULL REFERENCES operators,
    created_at  timestamptz NOT NULL DEFAULT now(),
    expires_at  timestamptz NOT NULL,
    address     text NOT NULL
);

CREATE TABLE signin_failures (
    name_fold text NOT NULL,
    address   text NOT NULL,
    at        timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON signin_failures (at);

-- One row seals the database to its identity file.
CREATE TABLE sentinel (
    one    boolean PRIMARY KEY DEFAULT true CHECK (one),
    sealed bytea NOT NULL
);

-- The journal. "bytes" is the entry exactly as written, for a hash to cover;
-- the other columns repeat it for queries.
CREATE TABLE journal (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at       timestamptz NOT NULL,
    operator text NOT NULL,
    address  text NOT NULL,
    action   text NOT NULL,
    target   text NOT NULL,
    intent   text NOT NULL,
    outcome  text NOT NULL,
    of       bigint REFERENCES journal,
    bytes    bytea NOT NULL
);
CREATE INDEX ON journal (target, id);

CREATE FUNCTION journal_is_append_only() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the journal is append-only';
END $$;
CREATE TRIGGER journal_append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON journal
    FOR EACH STATEMENT EXECUTE FUNCTION journal_is_append_only();

-- The ledger.

CREATE TABLE keys (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name        text NOT NULL,
    name_fold   text NOT NULL UNIQUE,
    blob        bytea NOT NULL UNIQUE,
    kind        text NOT NULL,
    fingerprint text NOT NULL UNIQUE,
    comment     text NOT NULL,
    note        text NOT NULL DEFAULT '',
    origin      text NOT NULL CHECK (origin IN ('made here', 'imported')),
    created_at  timestamptz NOT NULL DEFAULT now(),
    created_by  text NOT NULL
);

CREATE TABLE instances (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name         text NOT NULL,
    name_fold    text NOT NULL,
    alias        text NOT NULL UNIQUE,
    cloud        text NOT NULL,
    cloud_id     text NOT NULL DEFAULT '',
    client_token text NOT NULL UNIQUE,
    region       text NOT NULL,
    image        text NOT NULL,
    size         text NOT NULL,
    login_user   text NOT NULL,
    address      text NOT NULL DEFAULT '',
    port         integer NOT NULL DEFAULT 22,
    state        text NOT NULL DEFAULT 'pending',
    phase        text NOT NULL CHECK (phase IN ('launching', 'ready', 'failed', 'stopping', 'starting', 'removing', 'removed')),
    progress     text NOT NULL DEFAULT '',
    trouble      text NOT NULL DEFAULT '',
    user_data    text NOT NULL,
    intent_id    bigint REFERENCES journal,
    host_keys_read boolean NOT NULL DEFAULT false,
    changed_at   timestamptz NOT NULL DEFAULT now(),
    created_at   timestamptz NOT NULL DEFAULT now(),
    created_by   text NOT NULL
);
CREATE UNIQUE INDEX instances_name ON instances (name_fold) WHERE phase <> 'removed';
CREATE INDEX ON instances (phase) WHERE phase NOT IN ('ready', 'failed', 'removed');

CREATE TABLE host_keys (
    instance_id bigint NOT NULL REFERENCES instances,
    blob        bytea NOT NULL,
    type        text NOT NULL,
    fingerprint text NOT NULL,
    source      text NOT NULL,
    recorded_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (instance_id, blob)
);

CREATE TABLE steward_keys (
    instance_id bigint PRIMARY KEY REFERENCES instances,
    blob        bytea NOT NULL,
    sealed      bytea NOT NULL
);

-- One public key that opens one instance for one login user. The steward's
-- own access has no key of the ledger behind it.
CREATE TABLE access (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id bigint NOT NULL REFERENCES instances,
    key_id      bigint REFERENCES keys,
    steward     boolean NOT NULL DEFAULT false,
    login_user  text NOT NULL,
    created_at  timestamptz NOT NULL DEFAULT now(),
    probe_answer text NOT NULL DEFAULT '',
    probe_detail text NOT NULL DEFAULT '',
    probe_from   text NOT NULL DEFAULT '',
    probe_at     timestamptz,
    CHECK (steward = (key_id IS NULL))
);
CREATE UNIQUE INDEX access_key ON access (instance_id, key_id, login_user) WHERE NOT steward;
CREATE UNIQUE INDEX access_steward ON access (instance_id, login_user) WHERE steward;
CREATE INDEX ON access (key_id);

-- The last positive and the last negative observation of each kind.
CREATE TABLE evidence (
    access_id bigint NOT NULL REFERENCES access,
    kind      text NOT NULL CHECK (kind IN ('placed', 'seen', 'accepted', 'proven')),
    positive  boolean NOT NULL,
    at        timestamptz NOT NULL,
    vantage   text NOT NULL,
    document  text NOT NULL DEFAULT '',
    PRIMARY KEY (access_id, kind, positive)
);
