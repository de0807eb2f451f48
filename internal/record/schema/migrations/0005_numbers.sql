-- step: what was served when, for moments of which only the wall time is known
-- They count as of now: a window gets longer by that and never shorter.
CREATE TEMP TABLE moment AS SELECT max(
    coalesce((SELECT CAST(value AS INTEGER) FROM meta WHERE key = 'served'), 0),
    coalesce((SELECT max(touched_at) FROM blobs), 0), coalesce((SELECT max(touched_at) FROM holdings), 0),
    coalesce((SELECT max(touched_at) FROM manifests), 0), coalesce((SELECT max(touched_at) FROM uploads), 0)) AS served;

-- step: who and where, by numbers that are never used twice
DROP VIEW live_repositories;

CREATE TABLE accounts_next (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    name        TEXT    NOT NULL UNIQUE,
    kind        TEXT    NOT NULL,
    admin       INTEGER NOT NULL,
    description TEXT    NOT NULL,
    password    TEXT    NOT NULL,
    issuer      TEXT    NOT NULL,
    subject     TEXT    NOT NULL,
    created_at  INTEGER NOT NULL,
    created_by  TEXT    NOT NULL,
    disabled_at INTEGER NOT NULL DEFAULT 0
);
INSERT INTO accounts_next SELECT id, name, kind, admin, description, password, issuer, subject, created_at, created_by, disabled_at FROM accounts;
DROP TABLE accounts;
ALTER TABLE accounts_next RENAME TO accounts;
CREATE UNIQUE INDEX accounts_by_subject ON accounts (issuer, subject) WHERE subject <> '';

CREATE TABLE groups_next (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    name        TEXT    NOT NULL UNIQUE,
    description TEXT    NOT NULL,
    claim       TEXT    NOT NULL,
    created_at  INTEGER NOT NULL
);
INSERT INTO groups_next SELECT id, name, description, claim, created_at FROM groups;
DROP TABLE groups;
ALTER TABLE groups_next RENAME TO groups;

CREATE TABLE grants_next (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    account_id    INTEGER NOT NULL,
    group_id      INTEGER NOT NULL,
    namespace_id  INTEGER NOT NULL,
    repository_id INTEGER NOT NULL,
    role          TEXT    NOT NULL,
    granted_at    INTEGER NOT NULL,
    granted_by    TEXT    NOT NULL,
    UNIQUE (account_id, group_id, namespace_id, repository_id)
);
INSERT INTO grants_next SELECT id, account_id, group_id, namespace_id, repository_id, role, granted_at, granted_by FROM grants;
DROP TABLE grants;
ALTER TABLE grants_next RENAME TO grants;
CREATE INDEX grants_by_place ON grants (namespace_id, repository_id);

CREATE TABLE tokens_next (
    id         INTEGER PRIMARY KEY AUTOINCREMENT,
    account_id INTEGER NOT NULL REFERENCES accounts (id),
    kind       TEXT    NOT NULL,
    name       TEXT    NOT NULL,
    hash       TEXT    NOT NULL UNIQUE,
    scopes     TEXT    NOT NULL,
    parent_id  INTEGER NOT NULL,
    rule_id    INTEGER NOT NULL,
    created_at INTEGER NOT NULL,
    ends_at    INTEGER NOT NULL,
    revoked_at INTEGER NOT NULL DEFAULT 0,
    used_at    INTEGER NOT NULL DEFAULT 0,
    used_from  TEXT    NOT NULL DEFAULT ''
);
INSERT INTO tokens_next SELECT id, account_id, kind, name, hash, scopes, parent_id, rule_id, created_at, ends_at, revoked_at, used_at, used_from FROM tokens;
DROP TABLE tokens;
ALTER TABLE tokens_next RENAME TO tokens;
CREATE INDEX tokens_by_account ON tokens (account_id, id);
CREATE INDEX tokens_by_parent ON tokens (parent_id) WHERE parent_id <> 0;
CREATE INDEX tokens_by_rule ON tokens (rule_id) WHERE rule_id <> 0;

CREATE TABLE identity_rules_next (
    id         INTEGER PRIMARY KEY AUTOINCREMENT,
    name       TEXT    NOT NULL UNIQUE,
    issuer     TEXT    NOT NULL,
    audience   TEXT    NOT NULL,
    subject    TEXT    NOT NULL,
    account_id INTEGER NOT NULL REFERENCES accounts (id),
    created_at INTEGER NOT NULL
);
INSERT INTO identity_rules_next SELECT id, name, issuer, audience, subject, account_id, created_at FROM identity_rules;
DROP TABLE identity_rules;
ALTER TABLE identity_rules_next RENAME TO identity_rules;

-- blobs and blob_bytes count the distinct blobs that repositories of the namespace hold.
CREATE TABLE namespaces_next (
    id              INTEGER PRIMARY KEY AUTOINCREMENT,
    name            TEXT    NOT NULL,
    description     TEXT    NOT NULL DEFAULT '',
    labels          TEXT    NOT NULL DEFAULT '{}',
    open            INTEGER NOT NULL DEFAULT 0,
    push_makes      TEXT    NOT NULL DEFAULT 'writer',
    new_description TEXT    NOT NULL DEFAULT '',
    new_labels      TEXT    NOT NULL DEFAULT '{}',
    log_pulls       INTEGER NOT NULL DEFAULT 0,
    blobs           INTEGER NOT NULL DEFAULT 0,
    blob_bytes      INTEGER NOT NULL DEFAULT 0,
    created_at      INTEGER NOT NULL,
    removed_at      INTEGER NOT NULL DEFAULT 0,
    removal_id      INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE repositories_next (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    namespace_id  INTEGER NOT NULL REFERENCES namespaces (id),
    name          TEXT    NOT NULL,
    description   TEXT    NOT NULL DEFAULT '',
    labels        TEXT    NOT NULL DEFAULT '{}',
    visibility    TEXT    NOT NULL DEFAULT '',
    created_at    INTEGER NOT NULL,
    pushed_at     INTEGER NOT NULL,
    pushed_served INTEGER NOT NULL,
    pulled_at     INTEGER NOT NULL DEFAULT 0,
    pulled_served INTEGER NOT NULL DEFAULT 0,
    pulls         INTEGER NOT NULL DEFAULT 0,
    removed_at    INTEGER NOT NULL DEFAULT 0,
    removal_id    INTEGER NOT NULL DEFAULT 0
);

-- step: removals, each one act with all that went by it
-- name is what the thing was called: a tag, a digest, a repository, a namespace.
CREATE TABLE removals (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    kind          TEXT    NOT NULL,
    namespace_id  INTEGER NOT NULL,
    repository_id INTEGER NOT NULL,
    name          TEXT    NOT NULL,
    removed_at    INTEGER NOT NULL,
    removed_served INTEGER NOT NULL,
    removed_by    INTEGER NOT NULL,
    token         TEXT    NOT NULL DEFAULT '',
    reason        TEXT    NOT NULL DEFAULT '',
    undone_at     INTEGER NOT NULL DEFAULT 0,
    undone_by     INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX removals_by_repository ON removals (repository_id, id);
CREATE INDEX removals_by_namespace ON removals (namespace_id, id);
CREATE INDEX removals_open ON removals (removed_served) WHERE undone_at = 0;

CREATE TEMP TABLE gone (
    id INTEGER PRIMARY KEY, kind TEXT, namespace_id INTEGER, repository_id INTEGER, row_id INTEGER, name TEXT, at INTEGER, by TEXT
);
INSERT INTO gone SELECT NULL, 'namespace', id, 0, id, name, removed_at, removed_by FROM namespaces WHERE removed_at <> 0;
INSERT INTO gone SELECT NULL, 'repository', namespace_id, id, id, name, removed_at, removed_by FROM repositories WHERE removed_at <> 0;
INSERT INTO gone SELECT NULL, 'manifest', r.namespace_id, m.repository_id, m.id, m.digest, m.deleted_at, m.deleted_by
    FROM manifests AS m JOIN repositories AS r ON r.id = m.repository_id WHERE m.state = 'deleted';
INSERT INTO gone SELECT NULL, 'blob', r.namespace_id, h.repository_id, h.blob_id, blobs.digest, h.ended_at, h.ended_by
    FROM holdings AS h JOIN repositories AS r ON r.id = h.repository_id JOIN blobs ON blobs.id = h.blob_id WHERE h.ended_at <> 0;
CREATE INDEX temp.gone_by_row ON gone (kind, row_id, repository_id);

-- A tag that went with its manifest went by the removal of that, a moment before it.
CREATE TEMP TABLE gone_tags (
    move_id INTEGER PRIMARY KEY, repository_id INTEGER, tag TEXT, manifest_id INTEGER, at INTEGER, by TEXT, removal_id INTEGER
);
INSERT INTO gone_tags SELECT t.id, t.repository_id, t.tag, m.id, t.moved_at, t.moved_by, coalesce(
        (SELECT gone.id FROM gone WHERE gone.kind = 'manifest' AND gone.row_id = m.id AND gone.at BETWEEN t.moved_at AND t.moved_at + 1000000000), 0)
    FROM tag_moves AS t JOIN manifests AS m ON m.repository_id = t.repository_id AND m.digest = t.previous WHERE t.digest = '';
INSERT INTO gone SELECT NULL, 'tag', r.namespace_id, g.repository_id, g.move_id, g.tag, g.at, g.by
    FROM gone_tags AS g JOIN repositories AS r ON r.id = g.repository_id WHERE g.removal_id = 0;
UPDATE gone_tags SET removal_id = (SELECT id FROM gone WHERE kind = 'tag' AND row_id = move_id) WHERE removal_id = 0;
INSERT INTO removals (id, kind, namespace_id, repository_id, name, removed_at, removed_served, removed_by)
    SELECT id, kind, namespace_id, repository_id, name, at, (SELECT served FROM moment), coalesce((SELECT accounts.id FROM accounts WHERE accounts.name = gone.by), 0) FROM gone;

-- step: namespaces and repositories
INSERT INTO namespaces_next (id, name, description, labels, open, push_makes, new_description, new_labels, log_pulls, created_at, removed_at, removal_id)
    SELECT id, name, description, labels, open, push_makes, new_description, new_labels, log_pulls, created_at, removed_at,
        coalesce((SELECT gone.id FROM gone WHERE gone.kind = 'namespace' AND gone.row_id = namespaces.id), 0) FROM namespaces;
INSERT INTO repositories_next (id, namespace_id, name, description, labels, visibility, created_at, pushed_at, pushed_served, pulled_at, pulled_served, pulls, removed_at, removal_id)
    SELECT id, namespace_id, name, description, labels, visibility, created_at, pushed_at, (SELECT served FROM moment),
        pulled_at, CASE pulled_at WHEN 0 THEN 0 ELSE (SELECT served FROM moment) END, pulls, removed_at,
        coalesce((SELECT gone.id FROM gone WHERE gone.kind = 'repository' AND gone.row_id = repositories.id), 0) FROM repositories;
DROP TABLE namespaces;
ALTER TABLE namespaces_next RENAME TO namespaces;
CREATE UNIQUE INDEX namespaces_by_name ON namespaces (name) WHERE removed_at = 0;
DROP TABLE repositories;
ALTER TABLE repositories_next RENAME TO repositories;
CREATE UNIQUE INDEX repositories_by_namespace ON repositories (namespace_id, name) WHERE removed_at = 0;
CREATE INDEX repositories_by_name ON repositories (name);
CREATE INDEX repositories_by_push ON repositories (pushed_at, name);
CREATE INDEX repositories_removed ON repositories (removed_at) WHERE removed_at <> 0;

-- What readers see: neither removed nor in a namespace that is.
CREATE VIEW live_repositories AS
    SELECT repositories.* FROM repositories
    JOIN namespaces ON namespaces.id = repositories.namespace_id AND namespaces.removed_at = 0
    WHERE repositories.removed_at = 0;

-- step: contents, all that anything names
CREATE TABLE contents (
    id     INTEGER PRIMARY KEY,
    digest TEXT    NOT NULL
);
INSERT INTO contents (id, digest) SELECT id, digest FROM blobs ORDER BY id;
CREATE UNIQUE INDEX contents_by_digest ON contents (digest);
INSERT OR IGNORE INTO contents (digest) SELECT DISTINCT edges.digest FROM edges
    WHERE NOT EXISTS (SELECT 1 FROM blobs WHERE blobs.digest = edges.digest);
INSERT OR IGNORE INTO contents (digest) SELECT digest FROM tag_moves WHERE digest <> '' UNION SELECT previous FROM tag_moves WHERE previous <> '';

CREATE TABLE media_types (
    id   INTEGER PRIMARY KEY,
    name TEXT    NOT NULL UNIQUE
);
INSERT INTO media_types (name) SELECT DISTINCT media_type FROM edges;

-- step: blobs
-- place is the suffix of the file's name behind the digest; files of before have
-- none. An empty store is the data folder. What ends in served is served time; all
-- other times are wall time.
CREATE TABLE blobs_next (
    content_id     INTEGER PRIMARY KEY REFERENCES contents (id),
    size           INTEGER NOT NULL,
    place          TEXT    NOT NULL,
    store          TEXT    NOT NULL DEFAULT '',
    state          TEXT    NOT NULL DEFAULT 'whole',
    placed_at      INTEGER NOT NULL,
    touched_served INTEGER NOT NULL,
    read_at        INTEGER NOT NULL DEFAULT 0,
    read_served    INTEGER NOT NULL DEFAULT 0
);
INSERT INTO blobs_next (content_id, size, place, placed_at, touched_served) SELECT id, size, '', placed_at, touched_at FROM blobs ORDER BY id;

-- step: holdings
CREATE TABLE holdings_next (
    repository_id  INTEGER NOT NULL REFERENCES repositories (id),
    content_id     INTEGER NOT NULL REFERENCES contents (id),
    held_at        INTEGER NOT NULL,
    held_by        INTEGER NOT NULL DEFAULT 0,
    touched_served INTEGER NOT NULL,
    ended_at       INTEGER NOT NULL DEFAULT 0,
    ended_served   INTEGER NOT NULL DEFAULT 0,
    removal_id     INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (repository_id, content_id)
) WITHOUT ROWID;
INSERT INTO holdings_next (repository_id, content_id, held_at, touched_served, ended_at, ended_served, removal_id)
    SELECT repository_id, blob_id, held_at, touched_at, ended_at, CASE ended_at WHEN 0 THEN 0 ELSE (SELECT served FROM moment) END,
        CASE ended_at WHEN 0 THEN 0 ELSE coalesce((SELECT gone.id FROM gone WHERE gone.kind = 'blob' AND gone.row_id = blob_id AND gone.repository_id = holdings.repository_id), 0) END
    FROM holdings ORDER BY repository_id, blob_id;
DROP TABLE holdings;
ALTER TABLE holdings_next RENAME TO holdings;
CREATE INDEX holdings_by_content ON holdings (content_id);
CREATE INDEX holdings_ended ON holdings (ended_served) WHERE ended_at <> 0;

-- step: distinct blobs of each namespace
CREATE TABLE namespace_blobs (
    namespace_id INTEGER NOT NULL REFERENCES namespaces (id),
    content_id   INTEGER NOT NULL REFERENCES contents (id),
    holders      INTEGER NOT NULL,
    PRIMARY KEY (namespace_id, content_id)
) WITHOUT ROWID;
INSERT INTO namespace_blobs SELECT repositories.namespace_id, holdings.content_id, count(*) FROM holdings
    JOIN repositories ON repositories.id = holdings.repository_id WHERE holdings.ended_at = 0
    GROUP BY repositories.namespace_id, holdings.content_id;
UPDATE namespaces SET (blobs, blob_bytes) = (SELECT count(*), coalesce(sum(blobs_next.size), 0) FROM namespace_blobs
    JOIN blobs_next ON blobs_next.content_id = namespace_blobs.content_id WHERE namespace_blobs.namespace_id = namespaces.id);

-- step: manifests
-- missing counts what the manifest names and is not here, but for what the standard
-- exempts. untagged_at is since when no tag points to it, 0 while one does.
CREATE TABLE manifests_next (
    id              INTEGER PRIMARY KEY AUTOINCREMENT,
    repository_id   INTEGER NOT NULL REFERENCES repositories (id),
    content_id      INTEGER NOT NULL REFERENCES contents (id),
    digest          TEXT    NOT NULL,
    state           TEXT    NOT NULL,
    missing         INTEGER NOT NULL DEFAULT 0,
    media_type      TEXT    NOT NULL,
    artifact_type   TEXT    NOT NULL,
    subject         TEXT    NOT NULL,
    size            INTEGER NOT NULL,
    content_size    INTEGER NOT NULL,
    platforms       TEXT    NOT NULL,
    annotations     TEXT    NOT NULL,
    pushed_at       INTEGER NOT NULL,
    pushed_served   INTEGER NOT NULL,
    pushed_by       INTEGER NOT NULL,
    touched_served  INTEGER NOT NULL,
    pulled_at       INTEGER NOT NULL DEFAULT 0,
    pulled_served   INTEGER NOT NULL DEFAULT 0,
    pulls           INTEGER NOT NULL DEFAULT 0,
    untagged_at     INTEGER NOT NULL DEFAULT 0,
    untagged_served INTEGER NOT NULL DEFAULT 0,
    deleted_at      INTEGER NOT NULL DEFAULT 0,
    deleted_served  INTEGER NOT NULL DEFAULT 0,
    removal_id      INTEGER NOT NULL DEFAULT 0,
    UNIQUE (repository_id, digest)
);
INSERT INTO manifests_next (id, repository_id, content_id, digest, state, media_type, artifact_type, subject, size, content_size, platforms, annotations,
        pushed_at, pushed_served, pushed_by, touched_served, pulled_at, pulled_served, pulls, untagged_at, untagged_served, deleted_at, deleted_served, removal_id)
    SELECT id, repository_id, blob_id, digest, state, media_type, artifact_type, subject, size, content_size, platforms, annotations,
        pushed_at, touched_at, coalesce((SELECT accounts.id FROM accounts WHERE accounts.name = pushed_by), 0), touched_at,
        pulled_at, CASE pulled_at WHEN 0 THEN 0 ELSE (SELECT served FROM moment) END, pulls,
        CASE WHEN tagged THEN 0 ELSE pushed_at END, CASE WHEN tagged THEN 0 ELSE (SELECT served FROM moment) END,
        deleted_at, CASE deleted_at WHEN 0 THEN 0 ELSE (SELECT served FROM moment) END,
        CASE deleted_at WHEN 0 THEN 0 ELSE coalesce((SELECT gone.id FROM gone WHERE gone.kind = 'manifest' AND gone.row_id = m.id), 0) END
    FROM (SELECT *, EXISTS (SELECT 1 FROM tags WHERE tags.manifest_id = manifests.id) AS tagged FROM manifests) AS m ORDER BY id;

CREATE TABLE edges_next (
    manifest_id   INTEGER NOT NULL REFERENCES manifests (id),
    position      INTEGER NOT NULL,
    repository_id INTEGER NOT NULL REFERENCES repositories (id),
    content_id    INTEGER NOT NULL REFERENCES contents (id),
    relation      INTEGER NOT NULL,
    media_type_id INTEGER NOT NULL REFERENCES media_types (id),
    size          INTEGER NOT NULL,
    PRIMARY KEY (manifest_id, position)
) WITHOUT ROWID;

-- step: what manifests name, in slices of manifests
INSERT INTO edges_next SELECT edges.manifest_id, edges.position, manifests.repository_id, contents.id,
        CASE edges.relation WHEN 'config' THEN 1 WHEN 'layer' THEN 2 WHEN 'child' THEN 3 ELSE 4 END, media_types.id, edges.size
    FROM manifests CROSS JOIN edges ON edges.manifest_id = manifests.id CROSS JOIN contents ON contents.digest = edges.digest
    CROSS JOIN media_types ON media_types.name = edges.media_type
    WHERE manifests.id > ? AND manifests.id <= ? ORDER BY edges.manifest_id, edges.position;

-- step: the index of what manifests name
DROP TABLE edges;
ALTER TABLE edges_next RENAME TO edges;
CREATE INDEX edges_by_content ON edges (content_id, repository_id, relation);

-- step: tags, and their log
-- order_key sorts tags that are versions, as bytes; it is empty for all others. A
-- tag with a removal is gone; its row stays, so that it can be brought back.
CREATE TABLE tags_next (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    repository_id INTEGER NOT NULL REFERENCES repositories (id),
    name          TEXT    NOT NULL,
    order_key     BLOB    NOT NULL,
    manifest_id   INTEGER NOT NULL REFERENCES manifests (id),
    moved_at      INTEGER NOT NULL,
    moved_served  INTEGER NOT NULL,
    moved_by      INTEGER NOT NULL,
    pulled_at     INTEGER NOT NULL DEFAULT 0,
    pulled_served INTEGER NOT NULL DEFAULT 0,
    pulls         INTEGER NOT NULL DEFAULT 0,
    removal_id    INTEGER NOT NULL DEFAULT 0
);
INSERT INTO tags_next (id, repository_id, name, order_key, manifest_id, moved_at, moved_served, moved_by, pulled_at, pulled_served, pulls)
    SELECT tags.id, tags.repository_id, tags.name, coalesce(order_key(tags.name), x''), tags.manifest_id, tags.moved_at,
        CASE WHEN abs(tags.moved_at - m.pushed_at) < 1000000000 THEN m.touched_at ELSE (SELECT served FROM moment) END,
        coalesce((SELECT accounts.id FROM accounts WHERE accounts.name = tags.moved_by), 0),
        tags.pulled_at, CASE tags.pulled_at WHEN 0 THEN 0 ELSE (SELECT served FROM moment) END, tags.pulls
    FROM tags JOIN manifests AS m ON m.id = tags.manifest_id ORDER BY tags.id;
INSERT INTO tags_next (repository_id, name, order_key, manifest_id, moved_at, moved_served, moved_by, removal_id)
    SELECT g.repository_id, g.tag, coalesce(order_key(g.tag), x''), g.manifest_id, coalesce(came.moved_at, g.at), (SELECT served FROM moment),
        coalesce((SELECT accounts.id FROM accounts WHERE accounts.name = came.moved_by), 0), g.removal_id
    FROM gone_tags AS g LEFT JOIN tag_moves AS came ON came.id =
        (SELECT max(t.id) FROM tag_moves AS t WHERE t.repository_id = g.repository_id AND t.tag = g.tag AND t.id < g.move_id) ORDER BY g.move_id;
DROP TABLE tags;
ALTER TABLE tags_next RENAME TO tags;
CREATE UNIQUE INDEX tags_by_name ON tags (repository_id, name) WHERE removal_id = 0;
CREATE INDEX tags_by_manifest ON tags (manifest_id);
CREATE INDEX tags_by_move ON tags (repository_id, moved_at, name) WHERE removal_id = 0;
CREATE INDEX tags_by_version ON tags (repository_id, order_key, name) WHERE removal_id = 0;
CREATE INDEX tags_gone ON tags (removal_id) WHERE removal_id <> 0;

-- from_id and to_id are contents, 0 for none; an empty origin is a push here.
CREATE TABLE tag_moves_next (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    repository_id INTEGER NOT NULL REFERENCES repositories (id),
    tag           TEXT    NOT NULL,
    from_id       INTEGER NOT NULL,
    to_id         INTEGER NOT NULL,
    moved_at      INTEGER NOT NULL,
    moved_served  INTEGER NOT NULL,
    moved_by      INTEGER NOT NULL,
    token         TEXT    NOT NULL DEFAULT '',
    origin        TEXT    NOT NULL DEFAULT ''
);
INSERT INTO tag_moves_next (id, repository_id, tag, from_id, to_id, moved_at, moved_served, moved_by)
    SELECT t.id, t.repository_id, t.tag, coalesce((SELECT contents.id FROM contents WHERE contents.digest = t.previous), 0),
        coalesce((SELECT contents.id FROM contents WHERE contents.digest = t.digest), 0), t.moved_at, (SELECT served FROM moment),
        coalesce((SELECT accounts.id FROM accounts WHERE accounts.name = t.moved_by), 0)
    FROM tag_moves AS t ORDER BY t.id;
DROP TABLE tag_moves;
ALTER TABLE tag_moves_next RENAME TO tag_moves;
CREATE INDEX tag_moves_by_tag ON tag_moves (repository_id, tag, id);

DROP TABLE manifests;
ALTER TABLE manifests_next RENAME TO manifests;
CREATE INDEX manifests_by_content ON manifests (content_id);
CREATE INDEX manifests_by_subject ON manifests (repository_id, subject, digest) WHERE subject <> '';
CREATE INDEX manifests_removed ON manifests (removal_id) WHERE removal_id <> 0;

DROP TABLE blobs;
ALTER TABLE blobs_next RENAME TO blobs;

-- step: uploads and the audit log
ALTER TABLE uploads RENAME COLUMN touched_at TO touched_served;
-- When it began is known by the wall time alone: as early as can be protects most.
ALTER TABLE uploads ADD COLUMN started_served INTEGER NOT NULL DEFAULT 0;
CREATE INDEX uploads_idle ON uploads (touched_served);

ALTER TABLE events ADD COLUMN account_id INTEGER NOT NULL DEFAULT 0;
UPDATE events SET account_id = coalesce((SELECT accounts.id FROM accounts WHERE accounts.name = events.account), 0) WHERE account <> '';
DROP INDEX events_by_account;
CREATE INDEX events_by_account ON events (account_id, id) WHERE account_id <> 0;
CREATE INDEX events_by_name ON events (account, id) WHERE account_id = 0 AND account <> '';

-- step: counts that follow by themselves
CREATE TRIGGER holdings_begin AFTER INSERT ON holdings WHEN NEW.ended_at = 0 BEGIN
    INSERT INTO namespace_blobs SELECT namespace_id, NEW.content_id, 1 FROM repositories WHERE id = NEW.repository_id
        ON CONFLICT DO UPDATE SET holders = holders + 1;
END;
CREATE TRIGGER holdings_revive AFTER UPDATE OF ended_at ON holdings WHEN OLD.ended_at <> 0 AND NEW.ended_at = 0 BEGIN
    INSERT INTO namespace_blobs SELECT namespace_id, NEW.content_id, 1 FROM repositories WHERE id = NEW.repository_id
        ON CONFLICT DO UPDATE SET holders = holders + 1;
END;
CREATE TRIGGER holdings_end AFTER UPDATE OF ended_at ON holdings WHEN OLD.ended_at = 0 AND NEW.ended_at <> 0 BEGIN
    UPDATE namespace_blobs SET holders = holders - 1
        WHERE namespace_id = (SELECT namespace_id FROM repositories WHERE id = OLD.repository_id) AND content_id = OLD.content_id;
END;
CREATE TRIGGER holdings_go AFTER DELETE ON holdings WHEN OLD.ended_at = 0 BEGIN
    UPDATE namespace_blobs SET holders = holders - 1
        WHERE namespace_id = (SELECT namespace_id FROM repositories WHERE id = OLD.repository_id) AND content_id = OLD.content_id;
END;
CREATE TRIGGER repositories_move AFTER UPDATE OF namespace_id ON repositories WHEN OLD.namespace_id <> NEW.namespace_id BEGIN
    UPDATE namespace_blobs SET holders = holders - 1 WHERE namespace_id = OLD.namespace_id
        AND content_id IN (SELECT content_id FROM holdings WHERE repository_id = NEW.id AND ended_at = 0);
    INSERT INTO namespace_blobs SELECT NEW.namespace_id, content_id, 1 FROM holdings WHERE repository_id = NEW.id AND ended_at = 0
        ON CONFLICT DO UPDATE SET holders = holders + 1;
END;
CREATE TRIGGER namespace_blobs_empty AFTER UPDATE OF holders ON namespace_blobs WHEN NEW.holders = 0 BEGIN
    DELETE FROM namespace_blobs WHERE namespace_id = NEW.namespace_id AND content_id = NEW.content_id;
END;
CREATE TRIGGER namespace_blobs_come AFTER INSERT ON namespace_blobs BEGIN
    UPDATE namespaces SET blobs = blobs + 1, blob_bytes = blob_bytes + (SELECT size FROM blobs WHERE content_id = NEW.content_id) WHERE id = NEW.namespace_id;
END;
CREATE TRIGGER namespace_blobs_go AFTER DELETE ON namespace_blobs BEGIN
    UPDATE namespaces SET blobs = blobs - 1, blob_bytes = blob_bytes - (SELECT size FROM blobs WHERE content_id = OLD.content_id) WHERE id = OLD.namespace_id;
END;
DROP TABLE temp.gone;
DROP TABLE temp.gone_tags;
DROP TABLE temp.moment;

-- step: numbers that were given before go on from there
UPDATE sqlite_sequence SET seq = max(seq, (SELECT coalesce(max(parent_id), 0) FROM tokens)) WHERE name = 'tokens';
UPDATE sqlite_sequence SET seq = max(seq, (SELECT coalesce(max(rule_id), 0) FROM tokens)) WHERE name = 'identity_rules';
UPDATE sqlite_sequence SET seq = max(seq, (SELECT coalesce(max(grant_id), 0) FROM grant_uses)) WHERE name = 'grants';
