-- Links by which the owner of a property, or a tenant, sees its water without an account.
CREATE TABLE owner_links (
    id          BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id     BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    -- For whom it was made.
    name        TEXT NOT NULL CHECK (length(name) BETWEEN 1 AND 80),
    token_hash  BYTEA NOT NULL UNIQUE,
    language    TEXT NOT NULL CHECK (language IN ('en', 'es')),
    -- What the water used is compared with.
    baseline    TEXT NOT NULL CHECK (baseline IN ('as_found', 'fixed')),
    -- Price of a cubic metre, and its currency as it is written; both or neither.
    price       DOUBLE PRECISION CHECK (price > 0),
    currency    TEXT CHECK (length(currency) BETWEEN 1 AND 4),
    made_by     BIGINT NOT NULL REFERENCES users (id),
    made_at     TIMESTAMPTZ NOT NULL DEFAULT app_now(),
    revoked_at  TIMESTAMPTZ,
    CHECK ((price IS NULL) = (currency IS NULL))
);

CREATE INDEX owner_links_site ON owner_links (site_id);

-- How often each was opened, by day.
CREATE TABLE owner_link_views (
    link_id BIGINT NOT NULL REFERENCES owner_links (id) ON DELETE CASCADE,
    day     DATE NOT NULL,
    views   INTEGER NOT NULL DEFAULT 1,
    last_at TIMESTAMPTZ NOT NULL DEFAULT app_now(),
    PRIMARY KEY (link_id, day)
);
