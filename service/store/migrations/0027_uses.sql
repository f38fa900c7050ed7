-- Who really came in, as the instances' own logs tell: their word, which counts nowhere as a way in.

-- One row for a key (or a login without one), a user, an address and a day. Days are read whole: reading one again changes nothing.
CREATE TABLE uses (
    instance_id bigint NOT NULL REFERENCES instances ON DELETE CASCADE,
    login_user  text NOT NULL,
    method      text NOT NULL,
    fingerprint text NOT NULL,                  -- '' without a key
    authority   text NOT NULL,                  -- of a certificate: the fingerprint of who signed it
    cert_id     text NOT NULL DEFAULT '',       -- the last one; foreign text
    trusted     boolean NOT NULL,               -- the instance's system vouches that its server wrote it
    address     inet NOT NULL,
    day         date NOT NULL,                  -- by the instance's clock, in UTC
    first_at    timestamptz NOT NULL,           -- mended by the clock's skew, as last_at is
    last_at     timestamptz NOT NULL,
    count       integer NOT NULL,
    PRIMARY KEY (instance_id, login_user, fingerprint, method, authority, address, day, trusted)
);
CREATE INDEX uses_by_key ON uses (fingerprint) WHERE fingerprint <> '';

-- What the answers need of that, for each key on each instance as each user.
CREATE TABLE last_uses (
    instance_id bigint NOT NULL REFERENCES instances ON DELETE CASCADE,
    login_user  text NOT NULL,
    fingerprint text NOT NULL,
    first_at    timestamptz NOT NULL,
    last_at     timestamptz NOT NULL,
    count       bigint NOT NULL,
    trusted     boolean NOT NULL,               -- of the last one
    PRIMARY KEY (instance_id, login_user, fingerprint)
);

-- How far each log was read.
CREATE TABLE login_logs (
    instance_id bigint PRIMARY KEY REFERENCES instances ON DELETE CASCADE,
    source      text NOT NULL,
    since       timestamptz,                    -- of its oldest entry
    read_at     timestamptz NOT NULL,
    vantage     text NOT NULL,
    skew        double precision NOT NULL,      -- seconds that the instance's clock was ahead
    left_out    integer NOT NULL
);

-- The service's own keys that an instance had before: what they did is no stranger's doing.
CREATE FUNCTION print_of(blob bytea) RETURNS text LANGUAGE sql IMMUTABLE AS $$
    SELECT 'SHA256:' || rtrim(encode(sha256(blob), 'base64'), '=')
$$;
CREATE TABLE former_stewards (
    instance_id bigint NOT NULL REFERENCES instances ON DELETE CASCADE,
    fingerprint text NOT NULL,
    until_at    timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (instance_id, fingerprint)
);
CREATE FUNCTION keep_former_steward() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO former_stewards (instance_id, fingerprint) VALUES (OLD.instance_id, print_of(OLD.blob)) ON CONFLICT DO NOTHING;
    IF TG_OP = 'DELETE' THEN
        RETURN OLD;
    END IF;
    RETURN NEW;
END $$;
CREATE TRIGGER former_u BEFORE UPDATE ON steward_keys FOR EACH ROW WHEN (OLD.blob IS DISTINCT FROM NEW.blob) EXECUTE FUNCTION keep_former_steward();
CREATE TRIGGER former_d BEFORE DELETE ON steward_keys FOR EACH ROW EXECUTE FUNCTION keep_former_steward();
