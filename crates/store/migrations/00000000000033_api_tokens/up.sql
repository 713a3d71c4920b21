-- Tokens by which other software reads in a person's name. Only the hash of a token is kept.
CREATE TABLE api_tokens (
    id           BIGINT PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    user_id      BIGINT NOT NULL REFERENCES users (id) ON DELETE CASCADE,
    name         TEXT NOT NULL,
    -- What it may read: codes of store::api_tokens::ReadScope.
    scopes       TEXT[] NOT NULL,
    token_sha256 BYTEA NOT NULL UNIQUE,
    made_at      TIMESTAMPTZ NOT NULL DEFAULT now(),
    -- When it was last used, to the hour.
    used_at      TIMESTAMPTZ,
    revoked_at   TIMESTAMPTZ
);
CREATE INDEX api_tokens_user ON api_tokens (user_id);
