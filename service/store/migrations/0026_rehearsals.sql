-- Rehearsals: a way back in that is carried out on a copy which nobody else reaches, with a pair made for it. The copy is an
-- instance of the ledger meanwhile, of a phase of its own that no list shows.
ALTER TABLE instances DROP CONSTRAINT instances_phase_check;
ALTER TABLE instances ADD CONSTRAINT instances_phase_check
    CHECK (phase IN ('launching', 'adopting', 'ready', 'failed', 'stopping', 'starting', 'removing', 'removed', 'rehearsal'));
DROP INDEX instances_name;
CREATE UNIQUE INDEX instances_name ON instances (name_fold) WHERE phase NOT IN ('removed', 'rehearsal');
CREATE TABLE rehearsals (
    work_id      bigint PRIMARY KEY REFERENCES work,
    instance_id  bigint NOT NULL REFERENCES instances,    -- the original
    route        text NOT NULL,
    attempt      integer NOT NULL DEFAULT 0,              -- of the work, that the rest is of
    key_id       bigint REFERENCES keys ON DELETE SET NULL, -- the pair made for it
    copy_id      bigint REFERENCES instances,             -- the copy, once the ledger has it
    child_id     bigint REFERENCES work,                  -- the work that carries the route out on the copy
    price        double precision NOT NULL DEFAULT 0,     -- at most, as said before
    currency     text NOT NULL DEFAULT '',
    began_at     timestamptz NOT NULL DEFAULT clock_timestamp(),
    ended_at     timestamptz,
    good         boolean,                                 -- somebody would have been in, and its checks work
    in_seconds   double precision,                        -- until the new key was accepted
    down_seconds double precision,                        -- of that without an answer, measured from outside
    said         text NOT NULL DEFAULT ''                 -- why it was not good, or what is to be looked at
);
CREATE INDEX rehearsals_of ON rehearsals (instance_id, ended_at DESC) WHERE ended_at IS NOT NULL;
-- One that failed stands on today.
CREATE FUNCTION judge_rehearsals() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT instance_id FROM changed;
    RETURN NULL;
END $$;
CREATE TRIGGER judge_u AFTER UPDATE ON rehearsals REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_rehearsals();
