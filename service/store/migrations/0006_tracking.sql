-- What really opens what, and how we know: surveys, what they saw, what needs a
-- hand, the chained journal, the two bad days of a key.

-- What is shown of an access, kept whenever its evidence changes, so that lists
-- can filter by it. '?' is settled once, by the service that applies this.
ALTER TABLE access
    ADD COLUMN standing      text NOT NULL DEFAULT 'none' CHECK (standing IN ('?', 'none', 'placed', 'seen', 'accepted', 'proven')),
    ADD COLUMN standing_at   timestamptz,
    ADD COLUMN standing_from text NOT NULL DEFAULT '',
    ADD COLUMN standing_old  boolean NOT NULL DEFAULT false,
    ADD COLUMN against       text NOT NULL DEFAULT '' CHECK (against IN ('', 'placed', 'seen', 'accepted', 'proven')),
    ADD COLUMN against_at    timestamptz,
    ADD COLUMN against_from  text NOT NULL DEFAULT '';
UPDATE access SET standing = '?';
CREATE INDEX access_unsettled ON access (instance_id) WHERE standing = '?';

-- The two bad days. Retired is something else: it is taken out of new launches.
ALTER TABLE keys
    ADD COLUMN state    text NOT NULL DEFAULT 'in use' CHECK (state IN ('in use', 'lost', 'exposed')),
    ADD COLUMN state_at timestamptz,
    ADD COLUMN state_by text NOT NULL DEFAULT '',
    ADD COLUMN state_reason text NOT NULL DEFAULT '',
    ADD COLUMN former_names jsonb NOT NULL DEFAULT '[]'; -- a cloud's label may still say one
ALTER TABLE holders ADD COLUMN left_at timestamptz, ADD COLUMN left_by text NOT NULL DEFAULT '';
CREATE TABLE holder_members (
    team_id   bigint NOT NULL REFERENCES holders,
    member_id bigint NOT NULL REFERENCES holders,
    since     timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (team_id, member_id),
    CHECK (team_id <> member_id)
);
CREATE INDEX ON keys (holder_id);

-- Probes show in a server's log: by itself the service asks an adopted one only once that is allowed.
ALTER TABLE instances ADD COLUMN probe_allowed boolean NOT NULL DEFAULT true, ADD COLUMN key_label text NOT NULL DEFAULT '', ADD COLUMN vanished_at timestamptz;
UPDATE instances SET probe_allowed = false WHERE adopted;

-- Whose turn it is. Whoever surveys holds the instance's turn until busy_until, with a fence.
CREATE TABLE survey_turns (
    instance_id bigint PRIMARY KEY REFERENCES instances,
    due_at      timestamptz NOT NULL,
    busy_until  timestamptz,
    fence       bigint NOT NULL DEFAULT 0
);
CREATE INDEX ON survey_turns (due_at);
INSERT INTO survey_turns (instance_id, due_at) SELECT id, now() + random() * interval '10 minutes' FROM instances WHERE phase <> 'removed';
CREATE FUNCTION instance_gets_turn() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO survey_turns (instance_id, due_at) VALUES (NEW.id, now() + interval '5 minutes' + random() * interval '10 minutes');
    RETURN NULL;
END $$;
CREATE TRIGGER instance_turn AFTER INSERT ON instances FOR EACH ROW EXECUTE FUNCTION instance_gets_turn();

-- The last survey of each sort. report holds what it saw, and what it could not.
CREATE TABLE surveys (
    instance_id bigint NOT NULL REFERENCES instances,
    sort        text NOT NULL CHECK (sort IN ('inside', 'outside', 'client', 'config')),
    tried_at    timestamptz NOT NULL,
    seen_at     timestamptz,                 -- of the last that could look
    trouble     text NOT NULL DEFAULT '',    -- why the last one could not
    cause       text NOT NULL DEFAULT '',    -- of the trouble: 'host key', 'reach', 'steward', 'files'
    vantage     text NOT NULL DEFAULT '',
    operator    text NOT NULL DEFAULT '',
    recorded    integer NOT NULL DEFAULT 0,
    unrecorded  integer NOT NULL DEFAULT 0,
    missing     integer NOT NULL DEFAULT 0,
    expired     integer NOT NULL DEFAULT 0,
    document    text NOT NULL DEFAULT '',    -- SHA-256 of what was read
    report      jsonb NOT NULL DEFAULT '{}',
    PRIMARY KEY (instance_id, sort)
);

-- The instances of a survey of many.
CREATE TABLE survey_parts (
    work_id     bigint NOT NULL REFERENCES work,
    instance_id bigint NOT NULL REFERENCES instances,
    PRIMARY KEY (work_id, instance_id)
);

-- A key that stands, or stood, in a file of an instance: a row for each stretch of time.
CREATE TABLE sightings (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id bigint NOT NULL REFERENCES instances,
    login_user  text NOT NULL,
    fingerprint text NOT NULL,
    blob        bytea NOT NULL,
    comment     text NOT NULL,
    places      jsonb NOT NULL,              -- [{file, line, options}]
    limits      text NOT NULL DEFAULT '',    -- what its lines have that makes it no opener: 'expired', 'command', 'from', 'authority'
    ends_at     timestamptz,                 -- the last end of its lines, if all have one
    vantage     text NOT NULL,
    first_at    timestamptz NOT NULL,
    last_at     timestamptz NOT NULL,
    gone_at     timestamptz
);
CREATE UNIQUE INDEX sightings_standing ON sightings (instance_id, login_user, fingerprint) WHERE gone_at IS NULL;
CREATE INDEX ON sightings (fingerprint);

-- Accesses and host keys by what they are looked for.
CREATE INDEX access_by_instance ON access (instance_id);
CREATE INDEX access_by_key ON access (key_id, instance_id) WHERE NOT steward;
CREATE INDEX ON host_keys (fingerprint) WHERE replaced_at IS NULL;

-- What the cloud has and the ledger does not know.
CREATE TABLE discovered (
    cloud    text NOT NULL,
    cloud_id text NOT NULL,
    name     text NOT NULL,
    region   text NOT NULL,
    state    text NOT NULL,
    address  text NOT NULL,
    key_label text NOT NULL DEFAULT '',
    first_at timestamptz NOT NULL DEFAULT now(),
    last_at  timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (cloud, cloud_id)
);

-- What needs a hand. subject is 'instance NAME', 'key NAME', 'cloud ID' or 'journal';
-- about tells several of one reason apart, such as by a fingerprint.
CREATE TABLE matters (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    source      text NOT NULL,               -- whose judging keeps it: 'instance 12', 'key 7', 'journal', 'clouds'
    subject     text NOT NULL,
    reason      text NOT NULL,
    about       text NOT NULL DEFAULT '',
    rank        integer NOT NULL,            -- the lower, the more urgent
    place       text NOT NULL,               -- rank and subject: the order of the list
    sentence    text NOT NULL,
    evidence    text NOT NULL,
    command     text NOT NULL,
    instance    text NOT NULL DEFAULT '',
    key         text NOT NULL DEFAULT '',
    region      text NOT NULL DEFAULT '',
    since       timestamptz NOT NULL DEFAULT clock_timestamp(),
    off_until   timestamptz,
    off_reason  text NOT NULL DEFAULT '',
    off_by      text NOT NULL DEFAULT '',
    UNIQUE (source, reason, about)
);
CREATE INDEX matters_order ON matters (place COLLATE "C", id);
-- Up to when an operator has seen what is new.
CREATE TABLE matter_marks (
    operator text PRIMARY KEY,
    at       timestamptz NOT NULL
);
CREATE INDEX ON matters (instance);
CREATE INDEX ON matters (key);

-- What changed and is to be judged anew; and when to look again though nothing changes.
CREATE TABLE to_judge (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id bigint,
    key_id      bigint
);
-- It is written and emptied all the time.
ALTER TABLE to_judge SET (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 2000);
CREATE TABLE judge_again (
    source text PRIMARY KEY,
    at     timestamptz NOT NULL
);
CREATE INDEX ON judge_again (at);

CREATE FUNCTION judge_instances() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT id FROM changed;
    -- One that is gone changes what is said of its keys, and of who had its host key too.
    INSERT INTO to_judge (key_id) SELECT DISTINCT a.key_id FROM changed c JOIN access a ON a.instance_id = c.id WHERE c.phase IN ('removed', 'failed') AND a.key_id IS NOT NULL;
    INSERT INTO to_judge (key_id) SELECT DISTINCT k.id FROM changed c JOIN sightings s ON s.instance_id = c.id AND s.gone_at IS NULL JOIN keys k ON k.fingerprint = s.fingerprint WHERE c.phase = 'removed';
    INSERT INTO to_judge (instance_id) SELECT DISTINCT o.instance_id FROM changed c JOIN host_keys h ON h.instance_id = c.id JOIN host_keys o ON o.fingerprint = h.fingerprint
        WHERE c.phase = 'removed' AND o.replaced_at IS NULL;
    RETURN NULL;
END $$;
CREATE FUNCTION judge_their_instances() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT instance_id FROM changed;
    RETURN NULL;
END $$;
CREATE FUNCTION judge_host_keys() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT o.instance_id FROM changed c JOIN host_keys o ON o.fingerprint = c.fingerprint;
    RETURN NULL;
END $$;
CREATE FUNCTION judge_accesses() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT instance_id FROM changed;
    INSERT INTO to_judge (key_id) SELECT DISTINCT key_id FROM changed WHERE key_id IS NOT NULL;
    RETURN NULL;
END $$;
CREATE FUNCTION judge_keys() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (key_id) SELECT DISTINCT id FROM changed;
    INSERT INTO to_judge (instance_id) SELECT DISTINCT a.instance_id FROM changed c JOIN access a ON a.key_id = c.id;
    INSERT INTO to_judge (instance_id) SELECT DISTINCT s.instance_id FROM changed c JOIN sightings s ON s.fingerprint = c.fingerprint AND s.gone_at IS NULL;
    RETURN NULL;
END $$;
CREATE TRIGGER judge_i AFTER INSERT ON instances REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_instances();
CREATE TRIGGER judge_u AFTER UPDATE ON instances REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_instances();
CREATE TRIGGER judge_i AFTER INSERT ON access REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_accesses();
CREATE FUNCTION judge_changed_accesses() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT n.instance_id FROM changed n JOIN before o ON o.id = n.id WHERE (o.standing, o.standing_old, o.against, o.key_id, o.login_user) IS DISTINCT FROM (n.standing, n.standing_old, n.against, n.key_id, n.login_user);
    INSERT INTO to_judge (key_id) SELECT DISTINCT n.key_id FROM changed n JOIN before o ON o.id = n.id WHERE n.key_id IS NOT NULL AND o.key_id IS DISTINCT FROM n.key_id;
    RETURN NULL;
END $$;
CREATE TRIGGER judge_u AFTER UPDATE ON access REFERENCING OLD TABLE AS before NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_changed_accesses();
CREATE TRIGGER judge_d AFTER DELETE ON access REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_accesses();
CREATE TRIGGER judge_i AFTER INSERT ON keys REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_keys();
CREATE TRIGGER judge_u AFTER UPDATE ON keys REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_keys();
CREATE TRIGGER judge_d AFTER DELETE ON keys REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_keys();
CREATE TRIGGER judge_i AFTER INSERT ON sightings REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_their_instances();
CREATE FUNCTION judge_changed_sightings() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT n.instance_id FROM changed n JOIN before o ON o.id = n.id WHERE (o.limits, o.ends_at, o.gone_at, o.comment) IS DISTINCT FROM (n.limits, n.ends_at, n.gone_at, n.comment);
    RETURN NULL;
END $$;
CREATE TRIGGER judge_u AFTER UPDATE ON sightings REFERENCING OLD TABLE AS before NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_changed_sightings();
CREATE TRIGGER judge_i AFTER INSERT ON surveys REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_their_instances();
CREATE FUNCTION judge_changed_surveys() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT n.instance_id FROM changed n JOIN before o ON o.instance_id = n.instance_id AND o.sort = n.sort WHERE (o.trouble, o.cause, o.seen_at IS NULL, o.recorded, o.unrecorded, o.missing, o.expired) IS DISTINCT FROM (n.trouble, n.cause, n.seen_at IS NULL, n.recorded, n.unrecorded, n.missing, n.expired) OR n.sort = 'outside' AND (o.report - 'at') IS DISTINCT FROM (n.report - 'at');
    RETURN NULL;
END $$;
CREATE TRIGGER judge_u AFTER UPDATE ON surveys REFERENCING OLD TABLE AS before NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_changed_surveys();
CREATE TRIGGER judge_i AFTER INSERT ON host_keys REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_host_keys();
CREATE TRIGGER judge_u AFTER UPDATE ON host_keys REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_host_keys();
INSERT INTO to_judge (instance_id) SELECT id FROM instances;
INSERT INTO to_judge (key_id) SELECT id FROM keys;

-- The policy: its text as it was given, each version kept.
CREATE TABLE policies (
    id   bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    text text NOT NULL,
    at   timestamptz NOT NULL DEFAULT now(),
    by   text NOT NULL
);

-- The chain over the journal. Each link covers the one before it and the stored
-- bytes of an entry; heads are signed with a key that is not in the database.
CREATE TABLE journal_waiting (
    journal_id bigint PRIMARY KEY
);
INSERT INTO journal_waiting SELECT id FROM journal;
CREATE FUNCTION journal_waits() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO journal_waiting SELECT id FROM changed;
    RETURN NULL;
END $$;
CREATE TRIGGER journal_wait AFTER INSERT ON journal REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION journal_waits();
CREATE TABLE journal_chain (
    n          bigint PRIMARY KEY,
    journal_id bigint NOT NULL UNIQUE,
    sha256     bytea NOT NULL
);
CREATE TABLE journal_heads (
    n         bigint PRIMARY KEY,
    at        timestamptz NOT NULL,
    sha256    bytea NOT NULL,
    signature bytea NOT NULL
);

-- Each time that somebody verified the journal.
CREATE TABLE journal_checks (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at       timestamptz NOT NULL DEFAULT clock_timestamp(),
    operator text NOT NULL,
    links    bigint NOT NULL,
    breaks   jsonb NOT NULL DEFAULT '[]'
);

-- Lists page in this order.
CREATE INDEX instances_order ON instances (name_fold COLLATE "C", id) WHERE phase NOT IN ('removed', 'failed');
CREATE INDEX keys_order ON keys (name_fold COLLATE "C", id);
