-- step: what sweeps, scrubs and bans need
-- over_at is since when a removal cannot be undone any more, because a sweep began to take
-- what went by it; swept_at since when nothing is left of it.
ALTER TABLE removals ADD COLUMN over_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE removals ADD COLUMN swept_at INTEGER NOT NULL DEFAULT 0;
DROP INDEX removals_open;
CREATE INDEX removals_open ON removals (removed_served) WHERE undone_at = 0 AND swept_at = 0;
DROP INDEX holdings_ended;
CREATE INDEX holdings_removed ON holdings (removal_id) WHERE ended_at <> 0;
-- The rows of places that went for good stay, for what the logs say of them.
ALTER TABLE repositories ADD COLUMN gone_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE namespaces ADD COLUMN gone_at INTEGER NOT NULL DEFAULT 0;
-- How a run was asked for, and its report in figures, as JSON.
ALTER TABLE runs ADD COLUMN options TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN namespace_id INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN repository_id INTEGER NOT NULL DEFAULT 0;
CREATE INDEX runs_by_namespace ON runs (namespace_id, id) WHERE namespace_id <> 0;
CREATE INDEX runs_by_repository ON runs (repository_id, id) WHERE repository_id <> 0;
ALTER TABLE runs ADD COLUMN facts TEXT NOT NULL DEFAULT '';
-- Places on the disk of which the records know nothing.
CREATE TABLE strays (
    digest       TEXT    NOT NULL,
    place        TEXT    NOT NULL,
    size         INTEGER NOT NULL,
    found_at     INTEGER NOT NULL,
    found_served INTEGER NOT NULL,
    PRIMARY KEY (digest, place)
) WITHOUT ROWID;
-- Digests that must not be here: in a namespace or, with 0, anywhere. twin is the digest
-- of the same bytes by the other algorithm, where they were here to be read.
CREATE TABLE bans (
    id           INTEGER PRIMARY KEY AUTOINCREMENT,
    digest       TEXT    NOT NULL,
    twin         TEXT    NOT NULL DEFAULT '',
    namespace_id INTEGER NOT NULL,
    size         INTEGER NOT NULL DEFAULT 0,
    reason       TEXT    NOT NULL,
    banned_at    INTEGER NOT NULL,
    banned_by    INTEGER NOT NULL,
    lifted_at    INTEGER NOT NULL DEFAULT 0,
    lifted_by    INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX bans_by_digest ON bans (digest) WHERE lifted_at = 0;
CREATE INDEX bans_by_twin ON bans (twin) WHERE lifted_at = 0 AND twin <> '';
CREATE INDEX bans_by_namespace ON bans (namespace_id, id);
-- Content whose file was found not to be what it should be.
CREATE TABLE hurts (
    id           INTEGER PRIMARY KEY AUTOINCREMENT,
    digest       TEXT    NOT NULL,
    place        TEXT    NOT NULL,
    what         TEXT    NOT NULL,
    size         INTEGER NOT NULL,
    found_size   INTEGER NOT NULL,
    found_at     INTEGER NOT NULL,
    ended_at     INTEGER NOT NULL DEFAULT 0,
    ended_how    TEXT    NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX hurts_open ON hurts (digest) WHERE ended_at = 0;
CREATE INDEX blobs_by_read ON blobs (read_served, content_id);
CREATE INDEX namespace_blobs_by_content ON namespace_blobs (content_id);
CREATE INDEX tag_moves_by_to ON tag_moves (to_id);

-- step: which repository has each config
-- A config counts where it is: the same one in another repository is another row.
CREATE TABLE diff_ids_new (
    repository_id INTEGER NOT NULL,
    config_id     INTEGER NOT NULL,
    position      INTEGER NOT NULL,
    content_id    INTEGER NOT NULL REFERENCES contents (id),
    PRIMARY KEY (repository_id, config_id, position)
) WITHOUT ROWID;
INSERT INTO diff_ids_new (repository_id, config_id, position, content_id)
    SELECT DISTINCT edges.repository_id, diff_ids.config_id, diff_ids.position, diff_ids.content_id
    FROM diff_ids CROSS JOIN edges ON edges.content_id = diff_ids.config_id AND edges.relation = 1;
DROP TABLE diff_ids;
ALTER TABLE diff_ids_new RENAME TO diff_ids;
CREATE INDEX diff_ids_by_content ON diff_ids (content_id, repository_id);
