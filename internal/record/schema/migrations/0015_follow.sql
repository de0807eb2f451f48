-- step: namespaces that follow peers
-- sources are peers in order, as JSON; fresh_for is served time in nanoseconds.
CREATE TABLE follows (
    namespace_id INTEGER PRIMARY KEY,
    sources      TEXT    NOT NULL,
    fresh_for    INTEGER NOT NULL,
    complete     INTEGER NOT NULL DEFAULT 0,
    anonymous    INTEGER NOT NULL DEFAULT 0,
    set_at       INTEGER NOT NULL,
    set_by       INTEGER NOT NULL DEFAULT 0
);
-- What a peer had of a tag when it was last asked. gone_at is since when it has it no more;
-- conflict is what it has and a seal here keeps out.
CREATE TABLE followed_tags (
    repository_id  INTEGER NOT NULL,
    tag            TEXT    NOT NULL,
    peer_id        INTEGER NOT NULL,
    digest         TEXT    NOT NULL,
    checked_at     INTEGER NOT NULL,
    checked_served INTEGER NOT NULL,
    gone_at        INTEGER NOT NULL DEFAULT 0,
    conflict       TEXT    NOT NULL DEFAULT '',
    PRIMARY KEY (repository_id, tag)
) WITHOUT ROWID;
-- What a manifest names and its repository lacks; manifests.missing counts it.
CREATE TABLE lacking (
    repository_id INTEGER NOT NULL,
    content_id    INTEGER NOT NULL,
    manifest_id   INTEGER NOT NULL,
    PRIMARY KEY (repository_id, content_id, manifest_id)
) WITHOUT ROWID;
CREATE INDEX lacking_by_manifest ON lacking (manifest_id);
CREATE TRIGGER lacking_holding AFTER INSERT ON holdings BEGIN
    DELETE FROM lacking WHERE repository_id = NEW.repository_id AND content_id = NEW.content_id;
END;
CREATE TRIGGER lacking_holding_again AFTER UPDATE OF ended_at ON holdings WHEN NEW.ended_at = 0 BEGIN
    DELETE FROM lacking WHERE repository_id = NEW.repository_id AND content_id = NEW.content_id;
END;
CREATE TRIGGER lacking_manifest AFTER INSERT ON manifests WHEN NEW.state = 'live' BEGIN
    DELETE FROM lacking WHERE repository_id = NEW.repository_id AND content_id = NEW.content_id;
END;
CREATE TRIGGER lacking_manifest_again AFTER UPDATE OF state ON manifests WHEN NEW.state = 'live' BEGIN
    DELETE FROM lacking WHERE repository_id = NEW.repository_id AND content_id = NEW.content_id;
END;
CREATE TRIGGER lacking_manifest_goes AFTER DELETE ON manifests BEGIN
    DELETE FROM lacking WHERE manifest_id = OLD.id;
END;
CREATE TRIGGER followed_repository_goes AFTER DELETE ON repositories BEGIN
    DELETE FROM followed_tags WHERE repository_id = OLD.id;
    DELETE FROM lacking WHERE repository_id = OLD.id;
END;
CREATE TRIGGER lacking_less AFTER DELETE ON lacking BEGIN
    UPDATE manifests SET missing = missing - 1 WHERE id = OLD.manifest_id;
END;
