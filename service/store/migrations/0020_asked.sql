-- What work at hand asks of people stands on today, and its end takes it away: an instance is judged anew when
-- its work begins or ceases to wait for somebody's hands, and when a rotation of it is over.
CREATE FUNCTION judge_asked() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) VALUES (NEW.instance_id);
    RETURN NULL;
END $$;
CREATE TRIGGER judge_asked AFTER UPDATE OF state, waits_code ON work FOR EACH ROW
    WHEN (NEW.instance_id IS NOT NULL AND (OLD.waits_code IS DISTINCT FROM NEW.waits_code
        AND 'hands' IN (OLD.waits_code, NEW.waits_code)
        OR NEW.kind = 'rotate' AND OLD.state IS DISTINCT FROM NEW.state
        AND NEW.state IN ('done', 'failed', 'cancelled', 'stuck')))
    EXECUTE FUNCTION judge_asked();

-- Where an instance of the cloud that the ledger does not know answers, and as whom: for whoever adopts it.
ALTER TABLE discovered
    ADD COLUMN port       integer NOT NULL DEFAULT 0,
    ADD COLUMN login_user text NOT NULL DEFAULT '';
