-- What can be claimed is found without a look at all that is at hand: what waits for its time, what
-- was left by another replica, what is queued.
CREATE INDEX work_queued ON work (id) WHERE state = 'queued';
CREATE INDEX work_due ON work (wake_at) WHERE state = 'waiting';
CREATE INDEX work_left ON work (free_at) WHERE state = 'running';
