-- Namespaces and repositories can be removed and restored: a name is unique among
-- those that are not removed.
CREATE TABLE namespaces_next (
    id              INTEGER PRIMARY KEY,
    name            TEXT    NOT NULL,
    description     TEXT    NOT NULL DEFAULT '',
    labels          TEXT    NOT NULL DEFAULT '{}',
    open            INTEGER NOT NULL DEFAULT 0,
    push_makes      TEXT    NOT NULL DEFAULT 'writer',
    new_description TEXT    NOT NULL DEFAULT '',
    new_labels      TEXT    NOT NULL DEFAULT '{}',
    log_pulls       INTEGER NOT NULL DEFAULT 0,
    created_at      INTEGER NOT NULL,
    removed_at      INTEGER NOT NULL DEFAULT 0,
    removed_by      TEXT    NOT NULL DEFAULT ''
);
INSERT INTO namespaces_next (id, name, created_at) SELECT id, name, created_at FROM namespaces;
DROP TABLE namespaces;
ALTER TABLE namespaces_next RENAME TO namespaces;
CREATE UNIQUE INDEX namespaces_by_name ON namespaces (name) WHERE removed_at = 0;

CREATE TABLE repositories_next (
    id           INTEGER PRIMARY KEY,
    namespace_id INTEGER NOT NULL REFERENCES namespaces (id),
    name         TEXT    NOT NULL,
    description  TEXT    NOT NULL DEFAULT '',
    labels       TEXT    NOT NULL DEFAULT '{}',
    visibility   TEXT    NOT NULL DEFAULT '',
    created_at   INTEGER NOT NULL,
    pushed_at    INTEGER NOT NULL,
    pulled_at    INTEGER NOT NULL DEFAULT 0,
    pulls        INTEGER NOT NULL DEFAULT 0,
    removed_at   INTEGER NOT NULL DEFAULT 0,
    removed_by   TEXT    NOT NULL DEFAULT ''
);
INSERT INTO repositories_next (id, namespace_id, name, created_at, pushed_at, pulled_at, pulls)
    SELECT id, namespace_id, name, created_at, pushed_at, pulled_at, pulls FROM repositories;
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

CREATE TABLE accounts (
    id          INTEGER PRIMARY KEY,
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
CREATE UNIQUE INDEX accounts_by_subject ON accounts (issuer, subject) WHERE subject <> '';

CREATE TABLE groups (
    id          INTEGER PRIMARY KEY,
    name        TEXT    NOT NULL UNIQUE,
    description TEXT    NOT NULL,
    claim       TEXT    NOT NULL,
    created_at  INTEGER NOT NULL
);

-- company tells that the company's login put the account into the group.
CREATE TABLE group_members (
    group_id   INTEGER NOT NULL REFERENCES groups (id),
    account_id INTEGER NOT NULL REFERENCES accounts (id),
    company    INTEGER NOT NULL,
    PRIMARY KEY (group_id, account_id, company)
) WITHOUT ROWID;
CREATE INDEX group_members_by_account ON group_members (account_id);

-- A grant is for an account or a group (the other is 0), on a repository, on a
-- namespace or, with neither, on the registry.
CREATE TABLE grants (
    id            INTEGER PRIMARY KEY,
    account_id    INTEGER NOT NULL,
    group_id      INTEGER NOT NULL,
    namespace_id  INTEGER NOT NULL,
    repository_id INTEGER NOT NULL,
    role          TEXT    NOT NULL,
    granted_at    INTEGER NOT NULL,
    granted_by    TEXT    NOT NULL,
    UNIQUE (account_id, group_id, namespace_id, repository_id)
);

CREATE TABLE grant_uses (
    grant_id   INTEGER NOT NULL,
    account_id INTEGER NOT NULL,
    action     TEXT    NOT NULL,
    used_at    INTEGER NOT NULL,
    PRIMARY KEY (grant_id, account_id, action)
) WITHOUT ROWID;

CREATE TABLE tokens (
    id         INTEGER PRIMARY KEY,
    account_id INTEGER NOT NULL REFERENCES accounts (id),
    kind       TEXT    NOT NULL,
    name       TEXT    NOT NULL,
    hash       TEXT    NOT NULL UNIQUE,
    scopes     TEXT    NOT NULL,
    created_at INTEGER NOT NULL,
    ends_at    INTEGER NOT NULL,
    revoked_at INTEGER NOT NULL DEFAULT 0,
    used_at    INTEGER NOT NULL DEFAULT 0,
    used_from  TEXT    NOT NULL DEFAULT ''
);
CREATE INDEX tokens_by_account ON tokens (account_id, id);

CREATE TABLE identity_rules (
    id         INTEGER PRIMARY KEY,
    name       TEXT    NOT NULL UNIQUE,
    issuer     TEXT    NOT NULL,
    audience   TEXT    NOT NULL,
    subject    TEXT    NOT NULL,
    account_id INTEGER NOT NULL REFERENCES accounts (id),
    created_at INTEGER NOT NULL
);

-- The audit log: what was done, and what was refused.
ALTER TABLE events ADD COLUMN token TEXT NOT NULL DEFAULT '';
ALTER TABLE events ADD COLUMN subject TEXT NOT NULL DEFAULT '';
ALTER TABLE events ADD COLUMN detail TEXT NOT NULL DEFAULT '';
ALTER TABLE events ADD COLUMN verdict TEXT NOT NULL DEFAULT 'done';
CREATE INDEX events_by_account ON events (account, id);
CREATE INDEX events_by_kind ON events (kind, id);
CREATE INDEX events_refused ON events (id) WHERE verdict = 'refused';
