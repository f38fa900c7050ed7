-- What is known of a key beyond its public half: who holds it, where the
-- private half is kept, where it came from, whether it was ever shown to exist.

CREATE TABLE holders (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL,
    name_fold  text NOT NULL UNIQUE,
    sort       text NOT NULL CHECK (sort IN ('person', 'team', 'machine', 'job')),
    created_at timestamptz NOT NULL DEFAULT now()
);

ALTER TABLE keys DROP CONSTRAINT keys_origin_check;
ALTER TABLE keys ADD CONSTRAINT keys_origin_check CHECK (origin IN ('made here', 'imported', 'made elsewhere'));
ALTER TABLE keys
    ADD COLUMN holder_id  bigint REFERENCES holders,
    ADD COLUMN kept_at    text NOT NULL DEFAULT '',
    ADD COLUMN passphrase text NOT NULL DEFAULT 'not known' CHECK (passphrase IN ('yes', 'no', 'not known')),
    ADD COLUMN passphrase_at timestamptz,
    ADD COLUMN weakness   text NOT NULL DEFAULT '' CHECK (weakness IN ('', 'dated', 'weak', 'broken')),
    ADD COLUMN retired_at timestamptz,
    ADD COLUMN shown_at   timestamptz,
    ADD COLUMN shown_by   text NOT NULL DEFAULT '';

UPDATE keys SET weakness = CASE WHEN substr(kind, 5)::int < 1024 THEN 'broken' ELSE 'weak' END
    WHERE kind LIKE 'rsa-%' AND substr(kind, 5)::int < 2048;

-- A challenge that somebody's private half is to sign, once.
CREATE TABLE challenges (
    nonce       text PRIMARY KEY,
    operator_id bigint NOT NULL REFERENCES operators,
    key_id      bigint NOT NULL REFERENCES keys,
    text        text NOT NULL,
    expires_at  timestamptz NOT NULL
);
