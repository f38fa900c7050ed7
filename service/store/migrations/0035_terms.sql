-- Whether an access has an end, or one command, decides whether it is a way in: a change of its terms has its instance judged anew.
CREATE FUNCTION judge_terms() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO to_judge (instance_id) SELECT DISTINCT a.instance_id FROM changed c JOIN access a ON a.id = c.access_id;
    RETURN NULL;
END $$;
CREATE TRIGGER judge_i AFTER INSERT ON access_terms REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_terms();
CREATE TRIGGER judge_u AFTER UPDATE ON access_terms REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_terms();
CREATE TRIGGER judge_d AFTER DELETE ON access_terms REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION judge_terms();
-- What is there already is judged by what counts now.
INSERT INTO to_judge (instance_id) SELECT DISTINCT a.instance_id FROM access_terms t JOIN access a ON a.id = t.access_id;
