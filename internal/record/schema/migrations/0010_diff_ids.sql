-- step: digests of layers as they are unpacked, as configs of images have them
-- content_id is such a digest, config_id that of the config, position that in it.
CREATE TABLE diff_ids (
    content_id INTEGER NOT NULL REFERENCES contents (id),
    config_id  INTEGER NOT NULL REFERENCES contents (id),
    position   INTEGER NOT NULL,
    PRIMARY KEY (config_id, position)
) WITHOUT ROWID;
CREATE INDEX diff_ids_by_content ON diff_ids (content_id, config_id, position);
INSERT INTO meta (key, value) SELECT 'configs_to_read', coalesce(max(id), 0) FROM manifests;
INSERT INTO meta (key, value) VALUES ('configs_read', '0');
