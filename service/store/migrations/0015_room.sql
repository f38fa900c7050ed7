-- Rows that are written many times while work is at hand get room on their page: a new version
-- then stays there, and no index has to be told of it (README.HOT of PostgreSQL).
ALTER TABLE work SET (fillfactor = 50);
ALTER TABLE work_steps SET (fillfactor = 60);
ALTER TABLE access SET (fillfactor = 70);
ALTER TABLE instances SET (fillfactor = 70);
ALTER TABLE evidence SET (fillfactor = 70);

-- Nobody ever read it.
ALTER TABLE work DROP COLUMN written_at;
