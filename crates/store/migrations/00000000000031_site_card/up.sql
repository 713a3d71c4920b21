-- Customer, contacts, address, access and water supply of a site, versioned with its survey; as the site file has it.
ALTER TABLE site_versions ADD COLUMN card JSONB NOT NULL DEFAULT '{}';
-- Who looks after the site.
ALTER TABLE sites ADD COLUMN assigned_to BIGINT REFERENCES users (id);
CREATE INDEX sites_assigned_to ON sites (assigned_to);
