-- step: what retention rules ask of tags and images
-- pushed_served is when a tag was last pushed to where it pointed already, again_served when
-- an image was, both served time, 0 for never. labels are those of an image's config, as
-- JSON. mark is another number after each change of the tags and images of a repository.
ALTER TABLE tags ADD COLUMN pushed_served INTEGER NOT NULL DEFAULT 0;
ALTER TABLE manifests ADD COLUMN again_served INTEGER NOT NULL DEFAULT 0;
ALTER TABLE manifests ADD COLUMN labels TEXT NOT NULL DEFAULT '';
ALTER TABLE repositories ADD COLUMN mark INTEGER NOT NULL DEFAULT 0;
CREATE TRIGGER tags_come AFTER INSERT ON tags BEGIN
    UPDATE repositories SET mark = mark + 1 WHERE id = NEW.repository_id;
END;
CREATE TRIGGER tags_change AFTER UPDATE OF manifest_id, removal_id, name, pushed_served ON tags BEGIN
    UPDATE repositories SET mark = mark + 1 WHERE id = NEW.repository_id;
END;
CREATE TRIGGER tags_go AFTER DELETE ON tags WHEN OLD.removal_id = 0 BEGIN
    UPDATE repositories SET mark = mark + 1 WHERE id = OLD.repository_id;
END;
CREATE TRIGGER manifests_come AFTER INSERT ON manifests BEGIN
    UPDATE repositories SET mark = mark + 1 WHERE id = NEW.repository_id;
END;
CREATE TRIGGER manifests_change AFTER UPDATE OF state, again_served ON manifests BEGIN
    UPDATE repositories SET mark = mark + 1 WHERE id = NEW.repository_id;
END;

CREATE TRIGGER manifests_go AFTER DELETE ON manifests WHEN OLD.state = 'live' BEGIN
    UPDATE repositories SET mark = mark + 1 WHERE id = OLD.repository_id;
END;

-- step: lists that act after a wait
-- acts_served is from when a list does what it says, widened_served when it was last given
-- more to take; both served time, 0 for kinds of rules that do not wait. prior_words is what
-- it said before, while it waits.
ALTER TABLE rule_lists ADD COLUMN acts_served INTEGER NOT NULL DEFAULT 0;
ALTER TABLE rule_lists ADD COLUMN widened_served INTEGER NOT NULL DEFAULT 0;
ALTER TABLE rule_lists ADD COLUMN prior_words TEXT NOT NULL DEFAULT '';
-- Repositories of which a list would take so much that it waits once more.
CREATE TABLE retention_waits (
    repository_id  INTEGER NOT NULL REFERENCES repositories (id),
    list_id        INTEGER NOT NULL,
    widened_served INTEGER NOT NULL,
    until_served   INTEGER NOT NULL,
    takes          INTEGER NOT NULL,
    out_of         INTEGER NOT NULL,
    PRIMARY KEY (repository_id, list_id)
) WITHOUT ROWID;

-- step: what is in use somewhere
-- keeper_id is the account that refreshes the list, 0 for admins alone; fresh_for is for how
-- long one refreshing is good, in nanoseconds of served time.
CREATE TABLE in_use_lists (
    id               INTEGER PRIMARY KEY AUTOINCREMENT,
    name             TEXT    NOT NULL UNIQUE,
    description      TEXT    NOT NULL DEFAULT '',
    keeper_id        INTEGER NOT NULL DEFAULT 0,
    fresh_for        INTEGER NOT NULL,
    version          INTEGER NOT NULL DEFAULT 0,
    made_at          INTEGER NOT NULL,
    refreshed_at     INTEGER NOT NULL DEFAULT 0,
    refreshed_served INTEGER NOT NULL DEFAULT 0,
    refreshed_by     INTEGER NOT NULL DEFAULT 0
);
-- host is '' for this registry and for digests alone; left_served is since when it is not
-- in the list any more, 0 while it is.
CREATE TABLE in_use_entries (
    list_id     INTEGER NOT NULL REFERENCES in_use_lists (id),
    host        TEXT    NOT NULL,
    repository  TEXT    NOT NULL,
    tag         TEXT    NOT NULL,
    digest      TEXT    NOT NULL,
    left_served INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (list_id, host, repository, tag, digest)
) WITHOUT ROWID;

-- step: what went by which run
ALTER TABLE removals ADD COLUMN run_id INTEGER NOT NULL DEFAULT 0;
CREATE INDEX removals_by_run ON removals (run_id, id) WHERE run_id <> 0;

-- step: the labels in configs of before are read by a run
UPDATE meta SET value = '0' WHERE key = 'configs_read';
UPDATE meta SET value = (SELECT coalesce(max(id), 0) FROM manifests) WHERE key = 'configs_to_read';
