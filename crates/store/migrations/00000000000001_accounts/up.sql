CREATE TABLE users (
    id            BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    login         TEXT NOT NULL UNIQUE CHECK (login = lower(login) AND login <> ''),
    display_name  TEXT NOT NULL,
    password_hash TEXT NOT NULL,
    role          TEXT NOT NULL CHECK (role IN ('owner', 'technician', 'reader')),
    created_at    TIMESTAMPTZ NOT NULL DEFAULT now()
);

-- The cookie holds a random token; only its hash is kept, so a copy of this table opens nothing.
CREATE TABLE sessions (
    token_sha256 BYTEA PRIMARY KEY,
    user_id      BIGINT NOT NULL REFERENCES users (id) ON DELETE CASCADE,
    created_at   TIMESTAMPTZ NOT NULL DEFAULT now(),
    expires_at   TIMESTAMPTZ NOT NULL
);
CREATE INDEX sessions_user_id ON sessions (user_id);

-- Secrets that every server on this database must share, such as the cookie key.
CREATE TABLE secrets (
    name  TEXT PRIMARY KEY,
    value BYTEA NOT NULL
);
