CREATE TABLE meta (
    key   TEXT PRIMARY KEY,
    value TEXT NOT NULL
) WITHOUT ROWID;

CREATE TABLE namespaces (
    id         INTEGER PRIMARY KEY,
    name       TEXT    NOT NULL UNIQUE,
    created_at INTEGER NOT NULL
);

CREATE TABLE repositories (
    id           INTEGER PRIMARY KEY,
    namespace_id INTEGER NOT NULL REFERENCES namespaces (id),
    name         TEXT    NOT NULL UNIQUE,
    created_at   INTEGER NOT NULL,
    pushed_at    INTEGER NOT NULL,
    pulled_at    INTEGER NOT NULL DEFAULT 0,
    pulls        INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX repositories_by_namespace ON repositories (namespace_id, name);
CREATE INDEX repositories_by_push ON repositories (pushed_at, name);

-- touched_at is served time in every table; all other times are wall time.
CREATE TABLE blobs (
    id         INTEGER PRIMARY KEY,
    digest     TEXT    NOT NULL UNIQUE,
    size       INTEGER NOT NULL,
    placed_at  INTEGER NOT NULL,
    touched_at INTEGER NOT NULL
);

CREATE TABLE holdings (
    repository_id INTEGER NOT NULL REFERENCES repositories (id),
    blob_id       INTEGER NOT NULL REFERENCES blobs (id),
    held_at       INTEGER NOT NULL,
    touched_at    INTEGER NOT NULL,
    PRIMARY KEY (repository_id, blob_id)
) WITHOUT ROWID;
CREATE INDEX holdings_by_blob ON holdings (blob_id);

CREATE TABLE manifests (
    id            INTEGER PRIMARY KEY,
    repository_id INTEGER NOT NULL REFERENCES repositories (id),
    blob_id       INTEGER NOT NULL REFERENCES blobs (id),
    digest        TEXT    NOT NULL,
    state         TEXT    NOT NULL,
    media_type    TEXT    NOT NULL,
    artifact_type TEXT    NOT NULL,
    subject       TEXT    NOT NULL,
    size          INTEGER NOT NULL,
    content_size  INTEGER NOT NULL,
    platforms     TEXT    NOT NULL,
    annotations   TEXT    NOT NULL,
    pushed_at     INTEGER NOT NULL,
    pushed_by     TEXT    NOT NULL,
    touched_at    INTEGER NOT NULL,
    pulled_at     INTEGER NOT NULL DEFAULT 0,
    pulls         INTEGER NOT NULL DEFAULT 0,
    UNIQUE (repository_id, digest)
);
CREATE INDEX manifests_by_digest ON manifests (digest);
CREATE INDEX manifests_by_blob ON manifests (blob_id);
CREATE INDEX manifests_by_subject ON manifests (repository_id, subject, digest) WHERE subject <> '';

CREATE TABLE edges (
    manifest_id INTEGER NOT NULL REFERENCES manifests (id),
    position    INTEGER NOT NULL,
    relation    TEXT    NOT NULL,
    digest      TEXT    NOT NULL,
    size        INTEGER NOT NULL,
    media_type  TEXT    NOT NULL,
    PRIMARY KEY (manifest_id, position)
) WITHOUT ROWID;
CREATE INDEX edges_by_digest ON edges (digest, relation);

CREATE TABLE tags (
    id            INTEGER PRIMARY KEY,
    repository_id INTEGER NOT NULL REFERENCES repositories (id),
    name          TEXT    NOT NULL,
    manifest_id   INTEGER NOT NULL REFERENCES manifests (id),
    moved_at      INTEGER NOT NULL,
    moved_by      TEXT    NOT NULL,
    pulled_at     INTEGER NOT NULL DEFAULT 0,
    pulls         INTEGER NOT NULL DEFAULT 0,
    UNIQUE (repository_id, name)
);
CREATE INDEX tags_by_manifest ON tags (manifest_id);
CREATE INDEX tags_by_move ON tags (repository_id, moved_at, name);

CREATE TABLE tag_moves (
    id            INTEGER PRIMARY KEY,
    repository_id INTEGER NOT NULL REFERENCES repositories (id),
    tag           TEXT    NOT NULL,
    digest        TEXT    NOT NULL,
    previous      TEXT    NOT NULL,
    moved_at      INTEGER NOT NULL,
    moved_by      TEXT    NOT NULL
);
CREATE INDEX tag_moves_by_tag ON tag_moves (repository_id, tag, id);

CREATE TABLE uploads (
    id            TEXT    PRIMARY KEY,
    repository_id INTEGER NOT NULL REFERENCES repositories (id),
    algorithm     TEXT    NOT NULL,
    "offset"      INTEGER NOT NULL,
    state         BLOB    NOT NULL,
    started_at    INTEGER NOT NULL,
    touched_at    INTEGER NOT NULL
) WITHOUT ROWID;
CREATE INDEX uploads_by_repository ON uploads (repository_id);

CREATE TABLE events (
    id         INTEGER PRIMARY KEY AUTOINCREMENT,
    at         INTEGER NOT NULL,
    kind       TEXT    NOT NULL,
    repository TEXT    NOT NULL,
    tag        TEXT    NOT NULL,
    digest     TEXT    NOT NULL,
    account    TEXT    NOT NULL,
    address    TEXT    NOT NULL,
    request    TEXT    NOT NULL
);
CREATE INDEX events_by_repository ON events (repository, id);
