-- A piece of work knows its step by name. Its steps are its own plan, as its kind had
-- them when it was begun: a number would be another step once a version puts one before it.
ALTER TABLE work
    ADD COLUMN at         text NOT NULL DEFAULT '',  -- to do next, or to undo next; '' for none
    ADD COLUMN waits_code text NOT NULL DEFAULT '',  -- why it waits; waits_for says it to people
    ADD COLUMN code       text NOT NULL DEFAULT '',  -- of its trouble or outcome; those say it to people
    ADD COLUMN settled_at timestamptz;               -- it has shown what it is for, and goes on
UPDATE work w SET at = s.name FROM work_steps s WHERE s.work_id = w.id AND s.n = w.step;

-- What waits and is shown, the numbers said until now.
UPDATE work w SET settled_at = now() FROM work_steps s WHERE s.work_id = w.id AND NOT w.back AND s.n < w.step
    AND (w.kind, s.name) IN (('rotate', 'check'), ('access-add', 'accept'), ('access-remove', 'check'));
UPDATE work SET waits_code = CASE
        WHEN waits_for LIKE 'it to be back (%' THEN 'back'
        WHEN waits_for LIKE 'the server to answer (%' THEN 'answer'
        WHEN waits_for LIKE 'a rescue instance%' THEN 'rescue'
        WHEN waits_for LIKE 'a word%' THEN 'go-on'
        WHEN at = 'word' THEN 'word'
        WHEN at = 'proof' THEN 'proof'
        WHEN at = 'login' THEN 'login'
        WHEN at IN ('grant', 'by-hand') THEN 'hands'
        WHEN at = 'grace' THEN 'grace'
        WHEN at = 'end' THEN 'end'
        WHEN at IN ('parts', 'waves', 'rest') THEN 'parts'
        WHEN at = 'line' THEN 'client'
        ELSE 'retry' END
    WHERE state = 'waiting';

-- What an event means to a program.
ALTER TABLE work_events ADD COLUMN code text NOT NULL DEFAULT '';
UPDATE work_events SET code = 'waits' WHERE text LIKE 'waits: %';

-- What an instance's trouble is, to a program.
ALTER TABLE instances ADD COLUMN trouble_code text NOT NULL DEFAULT '';
UPDATE instances SET trouble_code = 'host-key' WHERE trouble LIKE '%another host key answers%';

ALTER TABLE work DROP COLUMN step;
CREATE UNIQUE INDEX work_steps_name ON work_steps (work_id, name);
