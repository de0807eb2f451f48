-- step: times at which files last changed
-- changed_at is the change time of a file, in nanoseconds, at which its content was known to
-- be right; 0 where it is not known yet.
ALTER TABLE blobs ADD COLUMN changed_at INTEGER NOT NULL DEFAULT 0;

-- step: when who may push was last told that a manifest exists
-- asked_served is served time in nanoseconds, 0 for never.
ALTER TABLE manifests ADD COLUMN asked_served INTEGER NOT NULL DEFAULT 0;

-- step: files of erased content, which are deleted without a window
ALTER TABLE strays ADD COLUMN erased INTEGER NOT NULL DEFAULT 0;
CREATE INDEX strays_erased ON strays (erased) WHERE erased <> 0;

-- step: bans of layers, however they are compressed
-- unpacked is the digest of a banned layer without its compression, unpacked_size its length
-- in bytes.
ALTER TABLE bans ADD COLUMN unpacked TEXT NOT NULL DEFAULT '';
ALTER TABLE bans ADD COLUMN unpacked_size INTEGER NOT NULL DEFAULT 0;
CREATE INDEX bans_by_unpacked ON bans (unpacked) WHERE lifted_at = 0 AND unpacked <> '';

-- step: rows that point to a deletion that was undone
DELETE FROM tags WHERE removal_id <> 0 AND removal_id IN (SELECT id FROM removals WHERE undone_at <> 0);
UPDATE holdings SET ended_at = 0, ended_served = 0, removal_id = 0
    WHERE ended_at <> 0 AND removal_id IN (SELECT id FROM removals WHERE undone_at <> 0);

-- step: reports of what is carried in, by account
CREATE INDEX arrivals_with_report ON arrivals (account_id, id) WHERE report IS NOT NULL;

-- step: who may change tags at a peer, beside registry admins: accounts by number, as JSON
ALTER TABLE peers ADD COLUMN tag_accounts TEXT NOT NULL DEFAULT '[]';

-- step: which content came from which peer, with all its bytes
CREATE TABLE origins (
    content_id INTEGER NOT NULL,
    peer_id    INTEGER NOT NULL,
    PRIMARY KEY (content_id, peer_id)
) WITHOUT ROWID;
CREATE INDEX origins_by_peer ON origins (peer_id);
CREATE TRIGGER origins_content_deleted AFTER DELETE ON blobs BEGIN
    DELETE FROM origins WHERE content_id = OLD.content_id;
END;
CREATE TRIGGER origins_peer_deleted AFTER DELETE ON peers BEGIN
    DELETE FROM origins WHERE peer_id = OLD.id;
END;
CREATE TRIGGER origins_peer_moved AFTER UPDATE OF address, prefix ON peers WHEN OLD.address <> NEW.address OR OLD.prefix <> NEW.prefix BEGIN
    DELETE FROM origins WHERE peer_id = OLD.id;
END;

-- step: a mark that stays where something only comes, so that a judgement outlives pushes
DROP TRIGGER tags_come;
DROP TRIGGER manifests_come;
