-- Work at hand: not begun, in the middle with a claim that ran out, and on its way back.
INSERT INTO work (token, kind, title, instance_id, operator, address, state, step, back, changing, holding, free_at, fence)
    VALUES ('launch', 'launch', 'launch berth-board-1', 1, 'Night-Lead', '', 'queued', 0, false, true, true, NULL, 0),
           ('stop', 'stop', 'stop berth-board-2', 2, 'Night-Lead', '', 'running', 1, false, true, true, now() - interval '1 minute', 4),
           ('back', 'launch', 'launch berth-board-3', 3, 'Night-Lead', '', 'queued', 1, true, true, true, NULL, 2),
           ('over', 'stop', 'stop berth-board-4', 4, 'Night-Lead', '', 'done', 2, false, true, false, NULL, 3);
INSERT INTO work_steps (work_id, n, name, title, state)
    SELECT w.id, s.n - 1, s.name, s.name, 'to do' FROM work w, unnest(ARRAY['create', 'run', 'host-key', 'probe']) WITH ORDINALITY AS s(name, n) WHERE w.kind = 'launch';
INSERT INTO work_steps (work_id, n, name, title, state)
    SELECT w.id, s.n - 1, s.name, s.name, 'to do' FROM work w, unnest(ARRAY['stop', 'rest']) WITH ORDINALITY AS s(name, n) WHERE w.kind = 'stop';
INSERT INTO work_events (work_id, n, step, text) VALUES (2, 1, 'stop', 'asking the cloud to stop it'), (2, 2, 'rest', 'waits: the test');
UPDATE work SET events = 2 WHERE id = 2;
