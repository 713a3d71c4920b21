-- Whose sites a person sees: every one, those to come too, or those that were given.
ALTER TABLE users ADD COLUMN every_site BOOLEAN NOT NULL DEFAULT TRUE;
ALTER TABLE users ADD CONSTRAINT users_owner_sees_all CHECK (role <> 'owner' OR every_site);
CREATE TABLE user_sites (
    user_id BIGINT NOT NULL REFERENCES users (id) ON DELETE CASCADE,
    site_id BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    PRIMARY KEY (user_id, site_id)
);
CREATE INDEX user_sites_site_id ON user_sites (site_id);
