-- Resident agents: who each is, what its owner's file allows, and whether it is connected.

-- The authority that makes the service's certificate for agents, which pin it. One for all replicas.
CREATE TABLE agent_authority (
    id          smallint PRIMARY KEY DEFAULT 1 CHECK (id = 1),
    certificate bytea NOT NULL,                 -- DER
    sealed      bytea NOT NULL,                 -- its key, PKCS #8, sealed at rest
    data_key    bigint GENERATED ALWAYS AS (
        CASE WHEN substring(sealed FROM 1 FOR 4) = '\x504c7331'::bytea
            THEN ('x' || encode(substring(sealed FROM 5 FOR 8), 'hex'))::bit(64)::bigint END) STORED
        REFERENCES data_keys (id)
);

CREATE TABLE agents (
    instance_id  bigint PRIMARY KEY REFERENCES instances ON DELETE CASCADE,
    public_key   bytea NOT NULL UNIQUE,         -- Ed25519, as SSH writes it
    fingerprint  text NOT NULL,
    enrolled_at  timestamptz NOT NULL DEFAULT clock_timestamp(),
    enrolled_by  text NOT NULL,
    version      text NOT NULL DEFAULT '',      -- this and what follows: the agent's own word
    verbs        text NOT NULL DEFAULT '',      -- that its owner allows, with blanks between them
    never        text NOT NULL DEFAULT '',      -- users whom it never touches
    trust        text NOT NULL DEFAULT '',      -- operators or service
    frozen       boolean NOT NULL DEFAULT false, -- changes are allowed, and nobody could sign one
    address      text NOT NULL DEFAULT '',      -- from where it came last
    connected_at timestamptz,                   -- the last time
    seen_at      timestamptz,                   -- renewed while it is connected
    refused_at   timestamptz,                   -- another one that claimed to be this one
    refused_from text NOT NULL DEFAULT ''
);

-- What lets the agent of an instance in that is being launched: good once, and for that instance.
CREATE TABLE agent_tokens (
    hash        bytea PRIMARY KEY,              -- SHA-256
    instance_id bigint NOT NULL REFERENCES instances ON DELETE CASCADE,
    made_by     text NOT NULL,
    until_at    timestamptz NOT NULL,
    used_at     timestamptz,
    refused_at  timestamptz                     -- somebody came with it in vain, and that was journaled
);
CREATE INDEX agent_tokens_instance ON agent_tokens (instance_id);

-- What an agent comes to is judged when it comes, goes, or is refused; not each time that it is seen.
CREATE FUNCTION judge_agent() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT instance_id FROM changed;
    RETURN NULL;
END $$;
CREATE TRIGGER judge_i AFTER INSERT ON agents REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_agent();
CREATE TRIGGER judge_d AFTER DELETE ON agents REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_agent();
CREATE FUNCTION judge_agent_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT n.instance_id FROM changed n JOIN before o ON o.instance_id = n.instance_id
        WHERE (o.trust, o.verbs, o.connected_at, o.refused_at) IS DISTINCT FROM (n.trust, n.verbs, n.connected_at, n.refused_at) OR n.seen_at < o.seen_at;
    RETURN NULL;
END $$;
CREATE TRIGGER judge_u AFTER UPDATE ON agents REFERENCING OLD TABLE AS before NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_agent_changed();
