-- Durable work: what is at hand, who has a claim on it, its steps and events.

CREATE TABLE work (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    token       text NOT NULL UNIQUE,          -- client tokens are made of it
    kind        text NOT NULL,
    title       text NOT NULL,
    parent_id   bigint REFERENCES work,
    instance_id bigint REFERENCES instances,
    operator    text NOT NULL,
    address     text NOT NULL,
    input       jsonb NOT NULL DEFAULT '{}',   -- what was asked for; never a secret
    data        jsonb NOT NULL DEFAULT '{}',   -- what its steps found out
    state       text NOT NULL CHECK (state IN ('queued', 'running', 'waiting', 'done', 'failed', 'cancelled', 'stuck')),
    back        boolean NOT NULL DEFAULT false, -- it goes back
    step        integer NOT NULL DEFAULT 0,     -- to do next, or to undo next
    attempt     integer NOT NULL DEFAULT 1,
    changing    boolean NOT NULL,               -- it changes its instance, and so holds it while at it
    holding     boolean NOT NULL,
    cancel_asked boolean NOT NULL DEFAULT false,
    trouble     text NOT NULL DEFAULT '',
    outcome     text NOT NULL DEFAULT '',
    waits_for   text NOT NULL DEFAULT '',
    wake_at     timestamptz,
    wait_ends_at timestamptz,
    fence       bigint NOT NULL DEFAULT 0,      -- rises with every claim
    replica     text NOT NULL DEFAULT '',
    free_at     timestamptz,                    -- lease and margin are over: another may claim it
    written_at  timestamptz,
    events      integer NOT NULL DEFAULT 0,     -- the number of the last one
    intent_id   bigint REFERENCES journal,
    created_at  timestamptz NOT NULL DEFAULT now(),
    ended_at    timestamptz
);
-- One instance has at most one piece of changing work.
CREATE UNIQUE INDEX work_holds_instance ON work (instance_id) WHERE holding;
CREATE INDEX ON work (instance_id, id);
CREATE INDEX ON work (parent_id, id);
CREATE INDEX work_open ON work (id) WHERE state IN ('queued', 'running', 'waiting');

CREATE TABLE work_steps (
    work_id  bigint NOT NULL REFERENCES work,
    n        integer NOT NULL,
    name     text NOT NULL,
    title    text NOT NULL,
    state    text NOT NULL DEFAULT 'to do' CHECK (state IN ('to do', 'doing', 'done', 'undoing', 'undone', 'waiting')),
    tries    integer NOT NULL DEFAULT 0,
    began_at timestamptz,
    ended_at timestamptz,
    PRIMARY KEY (work_id, n)
);

CREATE TABLE work_events (
    work_id bigint NOT NULL REFERENCES work,
    n       integer NOT NULL,
    at      timestamptz NOT NULL DEFAULT clock_timestamp(),
    step    text NOT NULL,
    text    text NOT NULL,
    PRIMARY KEY (work_id, n)
);

ALTER TABLE idempotency ADD COLUMN work_id bigint REFERENCES work;
ALTER TABLE idempotency ALTER COLUMN instance_id DROP NOT NULL;

-- What a launch can say besides.
ALTER TABLE instances
    ADD COLUMN zone    text NOT NULL DEFAULT '',
    ADD COLUMN disk_gb integer NOT NULL DEFAULT 0,
    ADD COLUMN tags    jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN adopted boolean NOT NULL DEFAULT false,
    ADD COLUMN keys_files jsonb NOT NULL DEFAULT '[]', -- that its server reads for the login user; [] for the defaults
    ADD COLUMN privilege  text NOT NULL DEFAULT '',    -- what its login user may do, as far as anybody saw
    ADD COLUMN via        jsonb;                       -- the jump host that it is reached through
ALTER TABLE instances DROP CONSTRAINT instances_phase_check;
ALTER TABLE instances ADD CONSTRAINT instances_phase_check
    CHECK (phase IN ('launching', 'adopting', 'ready', 'failed', 'stopping', 'starting', 'removing', 'removed'));

-- The addresses that an instance had.
CREATE TABLE addresses (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id bigint NOT NULL REFERENCES instances,
    address     text NOT NULL,
    since       timestamptz NOT NULL DEFAULT clock_timestamp(),
    until       timestamptz
);
CREATE INDEX ON addresses (instance_id, id);
INSERT INTO addresses (instance_id, address, since) SELECT id, address, changed_at FROM instances WHERE address <> '' AND phase <> 'removed';

-- What was in the middle of a change goes on as work; a launch of which the
-- cloud was not yet known to have heard is given up, and named.
INSERT INTO work (token, kind, title, instance_id, operator, address, state, changing, holding, intent_id)
    SELECT client_token || '-4', CASE phase WHEN 'launching' THEN 'launch' WHEN 'stopping' THEN 'stop' WHEN 'starting' THEN 'start' ELSE 'remove' END,
        phase || ' ' || name, id, created_by, '-', 'queued', true, true, intent_id
    FROM instances WHERE phase IN ('launching', 'stopping', 'starting', 'removing') AND (phase <> 'launching' OR cloud_id <> '');
UPDATE instances SET phase = 'failed', progress = '', trouble = 'the service was brought up to date in the middle of its launch: see in the cloud whether an instance of this name was made'
    WHERE phase = 'launching' AND cloud_id = '';
