-- Whom inbound rules let in and until when, host keys that were replaced, and
-- what of a wait's reason is about whom.

-- A rule that was asked for here. What the cloud has besides is nobody's here.
CREATE TABLE admissions (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id bigint NOT NULL REFERENCES instances,
    work_id     bigint NOT NULL REFERENCES work,
    group_id    text NOT NULL,               -- as the cloud calls it
    rule_id     text NOT NULL,
    range       text NOT NULL,               -- CIDR
    me          boolean NOT NULL,            -- it is the operator's own address
    operator    text NOT NULL,
    reason      text NOT NULL DEFAULT '',
    admitted_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    until       timestamptz,                 -- its end; without one it stays
    ended_at    timestamptz,
    ended_by    text NOT NULL DEFAULT ''
);
-- One standing admission a rule: asked for again, the later wish counts.
CREATE UNIQUE INDEX admissions_standing ON admissions (group_id, range) WHERE ended_at IS NULL;
CREATE INDEX ON admissions (instance_id, id);

-- A host key that was replaced on purpose stays on record.
ALTER TABLE host_keys ADD COLUMN replaced_at timestamptz, ADD COLUMN replaced_by text NOT NULL DEFAULT '';

ALTER TABLE addresses ADD COLUMN static boolean NOT NULL DEFAULT false;
