-- Keybooks: texts that were settled, by whom and when; what each was complete for; and what is to be done on each instance.
CREATE TABLE keybook_texts (
    hash    text PRIMARY KEY,                   -- SHA-256 of the sources, in hexadecimal
    sources jsonb NOT NULL,                     -- [{name, text}]
    publics jsonb NOT NULL DEFAULT '{}',        -- public halves in files beside it, by name
    kept_at timestamptz NOT NULL DEFAULT clock_timestamp()
);
CREATE TABLE keybooks (
    work_id    bigint PRIMARY KEY REFERENCES work,
    name       text NOT NULL,
    name_fold  text NOT NULL,
    hash       text NOT NULL REFERENCES keybook_texts,
    version    text NOT NULL DEFAULT '',        -- as whoever settled it says, such as what its version control tells
    difference text NOT NULL,                   -- the hash of what was to be done
    counts     jsonb NOT NULL,                  -- of that, by sort
    reviewed   jsonb NOT NULL,                  -- sums of what was reviewed, and may be recorded and asked for: nothing else is
    operator   text NOT NULL,
    at         timestamptz NOT NULL DEFAULT clock_timestamp(),
    complete   jsonb                            -- which instances it is complete for, and where it says so; null for none
);
CREATE INDEX keybooks_of ON keybooks (name_fold, work_id DESC);
-- The instances that a book was complete for when it was settled the last time.
CREATE TABLE keybook_scope (
    name_fold   text NOT NULL,
    instance_id bigint NOT NULL REFERENCES instances ON DELETE CASCADE,
    PRIMARY KEY (name_fold, instance_id)
);
-- What is done on an instance, where that is more than one key in the place of another.
ALTER TABLE fleet_members ADD COLUMN changes jsonb;
-- What a piece of work left as it was, and why, though it was asked for.
CREATE TABLE work_stays (
    work_id bigint NOT NULL REFERENCES work,
    n       bigint GENERATED ALWAYS AS IDENTITY,
    said    text NOT NULL,
    PRIMARY KEY (work_id, said)
);
-- What work is about that has no instance, such as a keybook by its name.
ALTER TABLE work ADD COLUMN subject text NOT NULL DEFAULT '';
CREATE INDEX work_of_subject ON work (subject, id) WHERE subject <> '' AND state IN ('queued', 'running', 'waiting');

-- Who gave an instance its tags: an operator, or only its cloud. A tag that only the cloud states makes no keybook complete.
ALTER TABLE instances ADD COLUMN tags_cloud boolean NOT NULL DEFAULT false, ADD COLUMN tags_by text NOT NULL DEFAULT '', ADD COLUMN tags_at timestamptz;
UPDATE instances SET tags_cloud = true WHERE found AND tags <> '{}';
-- Keybooks on the service's own disk, which it compares again and again.
CREATE TABLE keybooks_followed (
    path        text PRIMARY KEY,
    name        text NOT NULL DEFAULT '',
    name_fold   text NOT NULL DEFAULT '',
    text        text NOT NULL DEFAULT '',       -- hash of it
    difference  text NOT NULL DEFAULT '',
    counts      jsonb NOT NULL DEFAULT '{}',
    todo        integer NOT NULL DEFAULT 0,
    words       text NOT NULL DEFAULT '',       -- what is to be done
    waits       text NOT NULL DEFAULT '',       -- why it is not settled by itself
    trouble     text NOT NULL DEFAULT '',       -- why it could not be compared
    compared_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    settled     text NOT NULL DEFAULT '',       -- the difference that was settled by itself last
    signed_at   timestamptz                     -- of the last text that was taken
);
