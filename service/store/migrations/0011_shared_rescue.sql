-- When somebody last had this work look again, since it was claimed: a word that
-- comes while a step writes its wait down is heard at the end of that.
ALTER TABLE work ADD COLUMN woken_at timestamptz;

-- A rescue instance that was launched for a restore of many: its parts have it one
-- after the other.
CREATE TABLE shared_rescues (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    work_id bigint NOT NULL REFERENCES work, -- the restore of many
    region  text NOT NULL,
    zone    text NOT NULL,
    token   text NOT NULL,                   -- of its launch, for whichever part asks for it
    at      jsonb NOT NULL DEFAULT '{}',     -- what is known of it
    part_id bigint REFERENCES work,          -- the part that has it now
    spoilt  boolean NOT NULL DEFAULT false,  -- no part takes it any more
    gone_at timestamptz                      -- removed at the cloud
);
CREATE UNIQUE INDEX shared_rescues_one ON shared_rescues (work_id, region, zone) WHERE NOT spoilt AND gone_at IS NULL;
