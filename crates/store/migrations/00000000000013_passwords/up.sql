-- Who may not sign in any more, and links that open one choice of a password.
ALTER TABLE users ADD COLUMN disabled_at TIMESTAMPTZ;

-- The link holds a random token; only its hash is kept.
CREATE TABLE password_links (
    token_sha256 BYTEA PRIMARY KEY,
    user_id      BIGINT NOT NULL UNIQUE REFERENCES users (id) ON DELETE CASCADE,
    made_by      BIGINT NOT NULL REFERENCES users (id),
    expires_at   TIMESTAMPTZ NOT NULL
);
CREATE INDEX password_links_made_by ON password_links (made_by);
