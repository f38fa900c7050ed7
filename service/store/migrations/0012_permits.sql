-- A permit lets one write take somebody's line out of a file on an instance, or
-- narrow it (rule 1). It ends by itself, soon; a change of what it rests on waits
-- for that.
CREATE TABLE permits (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    work_id     bigint NOT NULL REFERENCES work,
    fence       bigint NOT NULL,               -- of the claim that it was given to; 0 for an engineer's client
    instance_id bigint NOT NULL REFERENCES instances,
    login_user  text NOT NULL,
    made_at     timestamptz NOT NULL DEFAULT clock_timestamp(),
    ends_at     timestamptz NOT NULL
);
CREATE INDEX permits_by_end ON permits (ends_at);
CREATE TABLE permit_keys (
    permit_id bigint NOT NULL REFERENCES permits ON DELETE CASCADE,
    key_id    bigint NOT NULL REFERENCES keys ON DELETE CASCADE,
    PRIMARY KEY (permit_id, key_id)
);
CREATE INDEX permit_keys_by_key ON permit_keys (key_id);

-- The members of work on many instances name their keys by ID; what stands in
-- words is for people.
ALTER TABLE fleet_members
    ADD COLUMN old_key_id bigint REFERENCES keys ON DELETE SET NULL,
    ADD COLUMN new_key_id bigint REFERENCES keys ON DELETE SET NULL;
UPDATE fleet_members m SET old_key_id = (SELECT k.id FROM keys k WHERE k.name_fold = lower(m.old_key)), new_key_id = (SELECT k.id FROM keys k WHERE k.name_fold = lower(m.new_key));

-- The end that we wrote into a line, as it stands there: only a line that bears it
-- is given another one. '' where it is not known.
ALTER TABLE access_terms ADD COLUMN expiry text NOT NULL DEFAULT '';
UPDATE access_terms t SET expiry = coalesce(w.data->>'expiry', '') FROM work w WHERE w.id = t.work_id AND t.enforced;

-- A challenge that is signed when a client logs in names what it logs in to.
ALTER TABLE challenges
    ADD COLUMN work_id     bigint REFERENCES work,
    ADD COLUMN instance_id bigint REFERENCES instances;

-- A token's children end with it.
ALTER TABLE tokens ADD COLUMN parent_id bigint REFERENCES tokens;

-- Attempts to sign in are counted before the password is looked at.
ALTER TABLE signin_failures RENAME TO signin_attempts;
ALTER TABLE signin_attempts ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY;

-- Who verified the journal: the service itself, or a client by its own word; and
-- up to which signed head.
ALTER TABLE journal_checks
    ADD COLUMN by_service boolean NOT NULL DEFAULT false,
    ADD COLUMN role       text NOT NULL DEFAULT '',
    ADD COLUMN head_n     bigint NOT NULL DEFAULT 0;
