-- A rotation that waits for the end of its grace time, one that waits for a proof, one
-- that waits for its instance to be back; and an access that was added for a time.
INSERT INTO work (token, kind, title, instance_id, operator, address, state, step, back, changing, holding, waits_for, wake_at, wait_ends_at, fence)
    VALUES ('grace', 'rotate', 'rotate berth-board-5', 5, 'Night-Lead', '', 'waiting', 7, false, true, false, 'the end of the grace time, 2026-12-24 12:00 UTC; then day-crew is withdrawn', now(), now() + interval '1 day', 2),
           ('proof', 'rotate', 'rotate berth-board-6', 6, 'Night-Lead', '', 'waiting', 3, false, true, false, 'the private half of night-crew to be shown', now(), now() + interval '1 day', 2),
           ('later', 'rotate', 'rotate berth-board-7', 7, 'Night-Lead', '', 'waiting', 1, false, true, false, 'it to be back (no answer in time); it stays as it is until then', now(), now() + interval '1 day', 2),
           ('guest', 'access-add', 'access to berth-board-8', 8, 'Night-Lead', '', 'waiting', 2, false, true, false, 'the end of the access, 2026-12-24 12:00 UTC; then night-crew is withdrawn', now(), now() + interval '1 day', 2);
INSERT INTO work_steps (work_id, n, name, title, state)
    SELECT w.id, s.n - 1, s.name, s.name, 'to do' FROM work w, unnest(ARRAY['contain', 'add', 'accept', 'proof', 'narrow', 'check', 'settle', 'grace', 'withdraw', 'last', 'record']) WITH ORDINALITY AS s(name, n) WHERE w.kind = 'rotate';
INSERT INTO work_steps (work_id, n, name, title, state)
    SELECT w.id, s.n - 1, s.name, s.name, 'to do' FROM work w, unnest(ARRAY['add', 'accept', 'end', 'withdraw', 'check', 'settle', 'record']) WITH ORDINALITY AS s(name, n) WHERE w.kind = 'access-add';
UPDATE work SET input = '{"old_id": 1, "new_id": 4711}', data = '{"contain_said": "taken from 192.0.2.0/24 alone"}' WHERE token = 'grace';
