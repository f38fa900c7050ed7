-- Calls to agents that another replica of the service is connected to: whoever asks puts one here, and the replica with the connection takes it, and
-- answers. No row stays: it goes when it was answered, or its time is over.
CREATE TABLE agent_calls (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instance_id bigint NOT NULL REFERENCES instances ON DELETE CASCADE,
    call        bytea NOT NULL,                 -- JSON, as it goes to the agent
    program     boolean NOT NULL DEFAULT false, -- the agent's program follows
    until_at    timestamptz NOT NULL,
    taken_at    timestamptz,
    answered_at timestamptz,
    outcome     text NOT NULL DEFAULT '',       -- done, refused, away or failed
    code        text NOT NULL DEFAULT '',       -- of a refusal
    said        text NOT NULL DEFAULT '',
    result      bytea                           -- JSON
);
CREATE INDEX agent_calls_waiting ON agent_calls (id) WHERE taken_at IS NULL;
