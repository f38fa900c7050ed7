-- A rescue instance that parts of a restore share.
INSERT INTO shared_rescues (work_id, region, zone, token, at) SELECT id, 'north-pier', 'a', 'shared', '{"cloud_id": "i-78"}' FROM work WHERE token = 'over';
