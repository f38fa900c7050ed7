-- A challenge that is made in the moment in which its key is forgotten goes with the key: else neither would be possible.
ALTER TABLE challenges DROP CONSTRAINT challenges_key_id_fkey;
ALTER TABLE challenges ADD CONSTRAINT challenges_key_id_fkey FOREIGN KEY (key_id) REFERENCES keys ON DELETE CASCADE;
