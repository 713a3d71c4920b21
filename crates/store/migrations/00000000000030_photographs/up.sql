-- Photographs belong to the site: of the site itself, a zone, a controller or a sensor, taken at a visit or at any time.
ALTER TABLE visit_photos RENAME TO photos;
ALTER TABLE photos ALTER COLUMN visit_id DROP NOT NULL;
ALTER TABLE photos ADD COLUMN site_id BIGINT REFERENCES sites (id) ON DELETE CASCADE;
UPDATE photos p SET site_id = v.site_id FROM visits v WHERE v.id = p.visit_id;
ALTER TABLE photos ALTER COLUMN site_id SET NOT NULL;

-- What it shows, as an entry of a visit says what it is about; 0 for the site.
ALTER TABLE photos ADD COLUMN kind TEXT NOT NULL DEFAULT 'site' CHECK (kind IN ('zone', 'controller', 'sensor', 'site'));
ALTER TABLE photos ADD COLUMN about BIGINT NOT NULL DEFAULT 0;
UPDATE photos SET kind = 'zone', about = zone_id WHERE zone_id IS NOT NULL;
ALTER TABLE photos ALTER COLUMN kind DROP DEFAULT;
ALTER TABLE photos ALTER COLUMN about DROP DEFAULT;
ALTER TABLE photos DROP COLUMN zone_id;
ALTER TABLE photos ADD COLUMN caption TEXT NOT NULL DEFAULT '';

ALTER INDEX visit_photos_visit RENAME TO photos_visit;
ALTER INDEX visit_photos_said_by RENAME TO photos_said_by;
CREATE INDEX photos_about ON photos (site_id, kind, about);

UPDATE events SET subject = 'photo' WHERE subject = 'visit_photo';
