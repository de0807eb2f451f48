-- step: replication rules
-- spec is the rule as JSON. globs are texts for GLOB of which a repository, a colon and a tag
-- have to be at least, repositories those of the repository alone, both as JSON: what SQL
-- cannot tell is told when it is looked at. inward rules bring from the peer. as_pushed rules
-- act on what becomes due at once, others on what was released.
CREATE TABLE replications (
    id           INTEGER PRIMARY KEY AUTOINCREMENT,
    name         TEXT    NOT NULL UNIQUE,
    peer_id      INTEGER NOT NULL,
    inward       INTEGER NOT NULL DEFAULT 0,
    spec         TEXT    NOT NULL,
    globs        TEXT    NOT NULL,
    repositories TEXT    NOT NULL,
    referrers    INTEGER NOT NULL DEFAULT 1,
    as_pushed    INTEGER NOT NULL DEFAULT 1,
    paused       INTEGER NOT NULL DEFAULT 0,
    version      INTEGER NOT NULL DEFAULT 1,
    ran_at       INTEGER NOT NULL DEFAULT 0,
    ran_served   INTEGER NOT NULL DEFAULT 0,
    made_at      INTEGER NOT NULL,
    made_by      INTEGER NOT NULL DEFAULT 0,
    changed_at   INTEGER NOT NULL,
    changed_by   INTEGER NOT NULL DEFAULT 0
);
-- What has to travel: a tag, a digest (what refers to another manifest), a whole repository,
-- or with no repository all that the rule means. number grows with each mark: who has done
-- what was due takes away the mark that he saw, and no later one. not_before is served time.
CREATE TABLE due (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    rule_id       INTEGER NOT NULL,
    repository    TEXT    NOT NULL,
    tag           TEXT    NOT NULL DEFAULT '',
    digest        TEXT    NOT NULL DEFAULT '',
    number        INTEGER NOT NULL DEFAULT 1,
    state         INTEGER NOT NULL DEFAULT 0,
    released      INTEGER NOT NULL DEFAULT 1,
    forced        INTEGER NOT NULL DEFAULT 0,
    marked_at     INTEGER NOT NULL,
    marked_served INTEGER NOT NULL,
    not_before    INTEGER NOT NULL DEFAULT 0,
    tries         INTEGER NOT NULL DEFAULT 0,
    error         TEXT    NOT NULL DEFAULT '',
    here          TEXT    NOT NULL DEFAULT '',
    there         TEXT    NOT NULL DEFAULT '',
    UNIQUE (rule_id, repository, tag, digest)
);
CREATE INDEX due_open ON due (rule_id, state, released, id);
CREATE INDEX due_oldest ON due (rule_id, state, marked_served);
-- What both sides last agreed on. target is the name there; put tells that the rule put it.
CREATE TABLE replicas (
    rule_id        INTEGER NOT NULL,
    repository     TEXT    NOT NULL,
    tag            TEXT    NOT NULL,
    target         TEXT    NOT NULL,
    digest         TEXT    NOT NULL,
    put            INTEGER NOT NULL DEFAULT 0,
    agreed_at      INTEGER NOT NULL,
    removed_served INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (rule_id, repository, tag)
) WITHOUT ROWID;
-- What the last comparison of both sides found.
CREATE TABLE drifts (
    id         INTEGER PRIMARY KEY AUTOINCREMENT,
    rule_id    INTEGER NOT NULL,
    repository TEXT    NOT NULL,
    tag        TEXT    NOT NULL,
    target     TEXT    NOT NULL,
    kind       TEXT    NOT NULL,
    here       TEXT    NOT NULL DEFAULT '',
    there      TEXT    NOT NULL DEFAULT ''
);
CREATE INDEX drifts_of_rule ON drifts (rule_id, id);
-- How rules fared, for charts: lag in nanoseconds of served time, and what moved since the
-- sample before.
CREATE TABLE flow_samples (
    rule_id INTEGER NOT NULL,
    at      INTEGER NOT NULL,
    lag     INTEGER NOT NULL,
    due     INTEGER NOT NULL,
    bytes   INTEGER NOT NULL,
    images  INTEGER NOT NULL,
    PRIMARY KEY (rule_id, at)
) WITHOUT ROWID;
-- Uploads to peers that did not end: where they are gone on with after a break.
CREATE TABLE peer_uploads (
    registry TEXT    NOT NULL,
    name     TEXT    NOT NULL,
    digest   TEXT    NOT NULL,
    at       TEXT    NOT NULL,
    kept_at  INTEGER NOT NULL,
    PRIMARY KEY (registry, name, digest)
) WITHOUT ROWID;
-- What followed namespaces served from here and from their peers, by day.
CREATE TABLE follow_served (
    namespace_id INTEGER NOT NULL,
    day          INTEGER NOT NULL,
    here         INTEGER NOT NULL DEFAULT 0,
    here_bytes   INTEGER NOT NULL DEFAULT 0,
    there        INTEGER NOT NULL DEFAULT 0,
    there_bytes  INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (namespace_id, day)
) WITHOUT ROWID;
CREATE TRIGGER due_tag AFTER INSERT ON tag_moves BEGIN
    INSERT INTO due (rule_id, repository, tag, released, marked_at, marked_served)
        SELECT r.id, repositories.name, NEW.tag, r.as_pushed, NEW.moved_at, NEW.moved_served
        FROM replications AS r CROSS JOIN repositories ON repositories.id = NEW.repository_id
        WHERE r.inward = 0 AND EXISTS (SELECT 1 FROM json_each(r.globs) WHERE repositories.name || ':' || NEW.tag GLOB value)
    ON CONFLICT (rule_id, repository, tag, digest) DO UPDATE SET number = number + 1, not_before = 0, tries = 0, error = '',
        marked_at = iif(state = 0, marked_at, excluded.marked_at), marked_served = iif(state = 0, marked_served, excluded.marked_served), state = 0;
END;
CREATE TRIGGER due_referrer AFTER INSERT ON manifests WHEN NEW.subject <> '' AND NEW.state = 'live' BEGIN
    INSERT INTO due (rule_id, repository, digest, released, marked_at, marked_served)
        SELECT r.id, repositories.name, NEW.digest, r.as_pushed, NEW.pushed_at, NEW.pushed_served
        FROM replications AS r CROSS JOIN repositories ON repositories.id = NEW.repository_id
        WHERE r.inward = 0 AND r.referrers = 1 AND EXISTS (SELECT 1 FROM json_each(r.repositories) WHERE repositories.name GLOB value)
    ON CONFLICT (rule_id, repository, tag, digest) DO UPDATE SET number = number + 1, not_before = 0, tries = 0, error = '', state = 0;
END;
CREATE TRIGGER due_referrer_again AFTER UPDATE OF state ON manifests WHEN NEW.subject <> '' AND NEW.state = 'live' AND OLD.state <> 'live' BEGIN
    INSERT INTO due (rule_id, repository, digest, released, marked_at, marked_served)
        SELECT r.id, repositories.name, NEW.digest, r.as_pushed, NEW.pushed_at, NEW.pushed_served
        FROM replications AS r CROSS JOIN repositories ON repositories.id = NEW.repository_id
        WHERE r.inward = 0 AND r.referrers = 1 AND EXISTS (SELECT 1 FROM json_each(r.repositories) WHERE repositories.name GLOB value)
    ON CONFLICT (rule_id, repository, tag, digest) DO UPDATE SET number = number + 1, not_before = 0, tries = 0, error = '', state = 0;
END;
-- A repository that goes, comes back or gets another name is looked at as a whole. The moment
-- is that of the mark that is there, or unknown: 0 is filled in when it is looked at.
CREATE TRIGGER due_repository AFTER UPDATE OF removed_at, name ON repositories WHEN NEW.removed_at <> OLD.removed_at OR NEW.name <> OLD.name BEGIN
    INSERT INTO due (rule_id, repository, released, marked_at, marked_served)
        SELECT r.id, n.name, r.as_pushed, 0, 0 FROM replications AS r CROSS JOIN (SELECT NEW.name AS name UNION SELECT OLD.name) AS n
        WHERE r.inward = 0 AND EXISTS (SELECT 1 FROM json_each(r.repositories) WHERE n.name GLOB value)
    ON CONFLICT (rule_id, repository, tag, digest) DO UPDATE SET number = number + 1, not_before = 0, tries = 0, error = '', state = 0;
END;
CREATE TRIGGER due_namespace AFTER UPDATE OF removed_at, name ON namespaces WHEN NEW.removed_at <> OLD.removed_at OR NEW.name <> OLD.name BEGIN
    INSERT INTO due (rule_id, repository, released, marked_at, marked_served)
        SELECT r.id, '', r.as_pushed, 0, 0 FROM replications AS r WHERE r.inward = 0
    ON CONFLICT (rule_id, repository, tag, digest) DO UPDATE SET number = number + 1, not_before = 0, tries = 0, error = '', state = 0;
END;
