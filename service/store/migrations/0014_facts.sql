-- What others look for of a piece of work stands in columns; its input and data are read
-- by its own steps alone.
ALTER TABLE work
    ADD COLUMN old_key_id      bigint,                   -- the key that is taken, or ended; it may be forgotten since
    ADD COLUMN new_key_id      bigint,                   -- the key that is added; the same
    ADD COLUMN rescue_cloud_id text NOT NULL DEFAULT '',  -- the rescue instance that it uses, as its cloud calls it
    ADD COLUMN volume          text NOT NULL DEFAULT '',  -- the root volume that it moves
    ADD COLUMN contained       text NOT NULL DEFAULT '';  -- whether an exposed key was contained, in words
UPDATE work w SET
    old_key_id = nullif((w.input->>'old_id')::bigint, 0),
    new_key_id = nullif((w.input->>'new_id')::bigint, 0),
    rescue_cloud_id = coalesce(w.data->'restore'->'rescue'->>'cloud_id', ''),
    volume = coalesce(w.data->'restore'->>'volume', ''),
    contained = coalesce(w.data->>'contain_said', '');
CREATE INDEX work_new_key ON work (new_key_id) WHERE state IN ('queued', 'running', 'waiting');

ALTER TABLE shared_rescues ADD COLUMN cloud_id text NOT NULL DEFAULT '';
UPDATE shared_rescues SET cloud_id = coalesce(at->>'cloud_id', '');
