-- A restore that waits for a rescue instance.
INSERT INTO work (token, kind, title, instance_id, operator, address, state, step, back, changing, holding, waits_for, wake_at, wait_ends_at, fence)
    VALUES ('rescue', 'restore-disk', 'restore berth-board-9', 9, 'Night-Lead', '', 'waiting', 1, false, true, false, 'a rescue instance: lighthouse-1 is at hand for other work, and takes one volume at a time', now(), now() + interval '1 day', 2);
INSERT INTO work_steps (work_id, n, name, title, state)
    SELECT w.id, s.n - 1, s.name, s.name, 'to do' FROM work w, unnest(ARRAY['look', 'rescue', 'stop', 'detach']) WITH ORDINALITY AS s(name, n) WHERE w.kind = 'restore-disk';
UPDATE work SET data = '{"restore": {"volume": "vol-9", "rescue": {"cloud_id": "i-77"}}}' WHERE token = 'rescue';
