-- Further forms of a key's fingerprint, by which clouds show it. md5_der is of the public key's DER, in
-- hex; NULL where the service has not computed it yet, '' for a kind that has none. private_sha1 is of the
-- private half's DER: what somebody said who had it.
ALTER TABLE keys
    ADD COLUMN md5_der         text,
    ADD COLUMN private_sha1    text NOT NULL DEFAULT '',
    ADD COLUMN private_sha1_by text NOT NULL DEFAULT '',
    ADD COLUMN private_sha1_at timestamptz;
ALTER TABLE sightings ADD COLUMN md5_der text;
CREATE INDEX sightings_md5_der ON sightings (md5_der);
CREATE INDEX sightings_md5 ON sightings (md5(blob));

-- A certificate authority that is recorded: it is put on no instance as a key.
ALTER TABLE keys ADD COLUMN authority boolean NOT NULL DEFAULT false;
