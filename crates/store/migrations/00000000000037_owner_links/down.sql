DROP TABLE owner_link_views;
DROP TABLE owner_links;
