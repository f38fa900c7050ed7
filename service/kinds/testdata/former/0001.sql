-- What a service of this schema may have kept.
INSERT INTO operators (name, name_fold, role, password_hash) VALUES ('Night-Lead', 'night-lead', 'admin', 'x');
INSERT INTO journal (at, operator, address, action, target, intent, outcome, bytes) VALUES ('2026-01-02T03:04:05Z', 'Night-Lead', '192.0.2.7', 'key.import', 'key day-crew', 'import', '', '\x7b7d');
INSERT INTO keys (name, name_fold, blob, kind, fingerprint, comment, origin, created_by) VALUES ('Day-Crew', 'day-crew', '\x01', 'ssh-ed25519', 'SHA256:a', 'ferry', 'imported', 'Night-Lead');
INSERT INTO instances (name, name_fold, alias, cloud, client_token, region, image, size, login_user, phase, user_data, created_by)
    SELECT 'berth-board-' || n, 'berth-board-' || n, 'plumlatch-' || n, 'standin', 't' || n, 'north-pier', 'debian-12', 'small', 'ferry', 'ready', '', 'Night-Lead' FROM generate_series(1, 9) n;
INSERT INTO access (instance_id, key_id, login_user) SELECT i.id, k.id, 'ferry' FROM instances i, keys k;
