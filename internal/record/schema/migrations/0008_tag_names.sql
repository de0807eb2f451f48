-- step: the names that tags ever had, and those that are held for somebody
-- prefix and version_key are of names that end in a version; version_key is NULL of
-- others. release tells of versions without a pre-release part. first_served is when there
-- first was a tag of the name, 0 for one that is only held: for held_by, until
-- held_until, both served time.
CREATE TABLE tag_names (
    repository_id INTEGER NOT NULL REFERENCES repositories (id),
    name          TEXT    NOT NULL,
    prefix        TEXT    NOT NULL DEFAULT '',
    version_key   BLOB,
    release       INTEGER NOT NULL DEFAULT 0,
    first_served  INTEGER NOT NULL DEFAULT 0,
    held_by       INTEGER NOT NULL DEFAULT 0,
    held_until    INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (repository_id, name)
) WITHOUT ROWID;
INSERT INTO tag_names (repository_id, name, prefix, version_key, release, first_served)
    SELECT repository_id, tag, version_prefix(tag), version_key(tag), is_release(tag), min(moved_served) FROM tag_moves WHERE to_id <> 0 GROUP BY repository_id, tag;
CREATE INDEX tag_names_by_version ON tag_names (repository_id, prefix, release, version_key) WHERE version_key IS NOT NULL;
CREATE INDEX tag_names_held ON tag_names (repository_id, held_by, held_until) WHERE first_served = 0;
