-- Instances that the cloud had before the ledger, and that were adopted from its list without anybody
-- getting in: found. The cloud's own words about what it has besides are kept with the list.
ALTER TABLE instances ADD COLUMN found boolean NOT NULL DEFAULT false;
ALTER TABLE discovered ADD COLUMN tags jsonb NOT NULL DEFAULT '{}';
ALTER TABLE discovered ADD COLUMN stop_destroys text NOT NULL DEFAULT '';

-- Nobody's second claim to one instance of a cloud.
CREATE UNIQUE INDEX instances_of_cloud ON instances (cloud, cloud_id)
	WHERE cloud_id <> '' AND phase NOT IN ('removed', 'failed');
