-- Which keys sign in, and which give a word: until now those that an admin named gave words alone.
ALTER TABLE operator_keys
    ADD COLUMN signs_in   boolean NOT NULL DEFAULT false,
    ADD COLUMN gives_word boolean NOT NULL DEFAULT true;

-- How a session was opened: password, key or code; and with which key, as long as that signs in.
ALTER TABLE sessions
    ADD COLUMN opened_by text   NOT NULL DEFAULT 'password',
    ADD COLUMN key_id    bigint REFERENCES keys ON DELETE CASCADE;

-- Challenges that were answered: each is good once.
CREATE TABLE signin_used (
    challenge bytea PRIMARY KEY, -- SHA-256
    at        timestamptz NOT NULL DEFAULT clock_timestamp()
);
CREATE INDEX signin_used_at ON signin_used (at);

-- Codes by which a session of the client opens one of the console, once, from the same address.
CREATE TABLE console_codes (
    sha256     bytea PRIMARY KEY,
    session    bytea NOT NULL REFERENCES sessions (sha256) ON DELETE CASCADE,
    address    text NOT NULL,
    expires_at timestamptz NOT NULL
);
