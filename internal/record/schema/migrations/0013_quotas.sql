-- step: quotas, and the sums that they bound
-- quota is in bytes, 0 for none. held_bytes are those of distinct blobs with a holding in the
-- namespace, or first held by the account, also of holdings that ended and are not purged
-- yet. warned is 1 once more than four fifths of the quota are used, and 2 once that was said.
ALTER TABLE namespaces ADD COLUMN quota INTEGER NOT NULL DEFAULT 0;
ALTER TABLE namespaces ADD COLUMN held_bytes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE namespaces ADD COLUMN warned INTEGER NOT NULL DEFAULT 0;
ALTER TABLE accounts ADD COLUMN quota INTEGER NOT NULL DEFAULT 0;
ALTER TABLE accounts ADD COLUMN held_bytes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE accounts ADD COLUMN warned INTEGER NOT NULL DEFAULT 0;
ALTER TABLE repositories ADD COLUMN tag_quota INTEGER NOT NULL DEFAULT 0;
ALTER TABLE repositories ADD COLUMN tag_count INTEGER NOT NULL DEFAULT 0;
ALTER TABLE repositories ADD COLUMN warned INTEGER NOT NULL DEFAULT 0;
ALTER TABLE uploads ADD COLUMN account_id INTEGER NOT NULL DEFAULT 0;
-- ended counts holdings that ended, holders those that did not.
ALTER TABLE namespace_blobs ADD COLUMN ended INTEGER NOT NULL DEFAULT 0;
CREATE TABLE account_blobs (
    account_id INTEGER NOT NULL,
    content_id INTEGER NOT NULL,
    holders    INTEGER NOT NULL,
    PRIMARY KEY (account_id, content_id)
) WITHOUT ROWID;

DROP TRIGGER holdings_begin;
DROP TRIGGER holdings_revive;
DROP TRIGGER holdings_end;
DROP TRIGGER holdings_go;
DROP TRIGGER repositories_move;
DROP TRIGGER namespace_blobs_empty;
DROP TRIGGER namespace_blobs_come;
DROP TRIGGER namespace_blobs_go;

-- step: what is held in namespaces, ended holdings as well
INSERT INTO namespace_blobs (namespace_id, content_id, holders, ended)
    SELECT repositories.namespace_id, holdings.content_id, 0, count(*) FROM holdings JOIN repositories ON repositories.id = holdings.repository_id
    WHERE holdings.ended_at <> 0 GROUP BY repositories.namespace_id, holdings.content_id
    ON CONFLICT DO UPDATE SET ended = excluded.ended;
UPDATE namespaces SET held_bytes = (SELECT coalesce(sum(blobs.size), 0) FROM namespace_blobs JOIN blobs ON blobs.content_id = namespace_blobs.content_id
    WHERE namespace_blobs.namespace_id = namespaces.id);

-- step: what accounts hold
INSERT INTO account_blobs SELECT held_by, content_id, count(*) FROM holdings WHERE held_by <> 0 GROUP BY held_by, content_id;
UPDATE accounts SET held_bytes = (SELECT coalesce(sum(blobs.size), 0) FROM account_blobs JOIN blobs ON blobs.content_id = account_blobs.content_id
    WHERE account_blobs.account_id = accounts.id);
UPDATE repositories SET tag_count = (SELECT count(*) FROM tags WHERE tags.repository_id = repositories.id AND tags.removal_id = 0);

-- step: sums that follow by themselves
CREATE TRIGGER holdings_begin AFTER INSERT ON holdings BEGIN
    INSERT INTO namespace_blobs (namespace_id, content_id, holders, ended) SELECT namespace_id, NEW.content_id, NEW.ended_at = 0, NEW.ended_at <> 0 FROM repositories WHERE id = NEW.repository_id
        ON CONFLICT DO UPDATE SET holders = holders + excluded.holders, ended = ended + excluded.ended;
END;
CREATE TRIGGER holdings_revive AFTER UPDATE OF ended_at ON holdings WHEN OLD.ended_at <> 0 AND NEW.ended_at = 0 BEGIN
    UPDATE namespace_blobs SET holders = holders + 1, ended = ended - 1
        WHERE namespace_id = (SELECT namespace_id FROM repositories WHERE id = NEW.repository_id) AND content_id = NEW.content_id;
END;
CREATE TRIGGER holdings_end AFTER UPDATE OF ended_at ON holdings WHEN OLD.ended_at = 0 AND NEW.ended_at <> 0 BEGIN
    UPDATE namespace_blobs SET holders = holders - 1, ended = ended + 1
        WHERE namespace_id = (SELECT namespace_id FROM repositories WHERE id = OLD.repository_id) AND content_id = OLD.content_id;
END;
CREATE TRIGGER holdings_go AFTER DELETE ON holdings BEGIN
    UPDATE namespace_blobs SET holders = holders - (OLD.ended_at = 0), ended = ended - (OLD.ended_at <> 0)
        WHERE namespace_id = (SELECT namespace_id FROM repositories WHERE id = OLD.repository_id) AND content_id = OLD.content_id;
END;
CREATE TRIGGER holdings_begin_by AFTER INSERT ON holdings WHEN NEW.held_by <> 0 BEGIN
    INSERT INTO account_blobs (account_id, content_id, holders) VALUES (NEW.held_by, NEW.content_id, 1) ON CONFLICT DO UPDATE SET holders = holders + 1;
END;
CREATE TRIGGER holdings_go_by AFTER DELETE ON holdings WHEN OLD.held_by <> 0 BEGIN
    UPDATE account_blobs SET holders = holders - 1 WHERE account_id = OLD.held_by AND content_id = OLD.content_id;
    DELETE FROM account_blobs WHERE account_id = OLD.held_by AND content_id = OLD.content_id AND holders = 0;
END;
CREATE TRIGGER repositories_move AFTER UPDATE OF namespace_id ON repositories WHEN OLD.namespace_id <> NEW.namespace_id BEGIN
    UPDATE namespace_blobs SET holders = holders - 1 WHERE namespace_id = OLD.namespace_id
        AND content_id IN (SELECT content_id FROM holdings WHERE repository_id = NEW.id AND ended_at = 0);
    UPDATE namespace_blobs SET ended = ended - 1 WHERE namespace_id = OLD.namespace_id
        AND content_id IN (SELECT content_id FROM holdings WHERE repository_id = NEW.id AND ended_at <> 0);
    INSERT INTO namespace_blobs (namespace_id, content_id, holders, ended) SELECT NEW.namespace_id, content_id, ended_at = 0, ended_at <> 0 FROM holdings WHERE repository_id = NEW.id
        ON CONFLICT DO UPDATE SET holders = holders + excluded.holders, ended = ended + excluded.ended;
END;
-- blobs and blob_bytes are those with a holding that did not end.
CREATE TRIGGER namespace_blobs_come AFTER INSERT ON namespace_blobs BEGIN
    UPDATE namespaces SET blobs = blobs + (NEW.holders > 0), (blob_bytes, held_bytes) = (SELECT blob_bytes + size * (NEW.holders > 0), held_bytes + size FROM blobs WHERE content_id = NEW.content_id)
        WHERE id = NEW.namespace_id;
END;
CREATE TRIGGER namespace_blobs_live AFTER UPDATE OF holders ON namespace_blobs WHEN (OLD.holders > 0) <> (NEW.holders > 0) BEGIN
    UPDATE namespaces SET blobs = blobs + (NEW.holders > 0) - (OLD.holders > 0),
        blob_bytes = blob_bytes + (SELECT size FROM blobs WHERE content_id = NEW.content_id) * ((NEW.holders > 0) - (OLD.holders > 0)) WHERE id = NEW.namespace_id;
END;
CREATE TRIGGER namespace_blobs_empty AFTER UPDATE OF holders, ended ON namespace_blobs WHEN NEW.holders = 0 AND NEW.ended = 0 BEGIN
    DELETE FROM namespace_blobs WHERE namespace_id = NEW.namespace_id AND content_id = NEW.content_id;
END;
CREATE TRIGGER namespace_blobs_go AFTER DELETE ON namespace_blobs BEGIN
    UPDATE namespaces SET held_bytes = held_bytes - (SELECT size FROM blobs WHERE content_id = OLD.content_id) WHERE id = OLD.namespace_id;
END;
CREATE TRIGGER account_blobs_come AFTER INSERT ON account_blobs BEGIN
    UPDATE accounts SET held_bytes = held_bytes + (SELECT size FROM blobs WHERE content_id = NEW.content_id) WHERE id = NEW.account_id;
END;
CREATE TRIGGER account_blobs_go AFTER DELETE ON account_blobs BEGIN
    UPDATE accounts SET held_bytes = held_bytes - (SELECT size FROM blobs WHERE content_id = OLD.content_id) WHERE id = OLD.account_id;
END;
-- A quota refuses what adds to what is held, in the change that would; what is brought back
-- was counted all the time.
CREATE TRIGGER namespaces_quota BEFORE UPDATE OF held_bytes ON namespaces WHEN NEW.quota > 0 AND NEW.held_bytes > NEW.quota AND NEW.held_bytes > OLD.held_bytes BEGIN
    SELECT RAISE(ABORT, 'quota of the namespace');
END;
CREATE TRIGGER accounts_quota BEFORE UPDATE OF held_bytes ON accounts WHEN NEW.quota > 0 AND NEW.held_bytes > NEW.quota AND NEW.held_bytes > OLD.held_bytes BEGIN
    SELECT RAISE(ABORT, 'quota of the account');
END;
CREATE TRIGGER tags_quota BEFORE INSERT ON tags WHEN NEW.removal_id = 0 AND (SELECT tag_quota > 0 AND tag_count >= tag_quota FROM repositories WHERE id = NEW.repository_id) BEGIN
    SELECT RAISE(ABORT, 'quota of the repository');
END;
CREATE TRIGGER namespaces_warned AFTER UPDATE OF held_bytes ON namespaces WHEN NEW.quota > 0 AND (NEW.held_bytes * 5 >= NEW.quota * 4) <> (NEW.warned > 0) BEGIN
    UPDATE namespaces SET warned = (NEW.held_bytes * 5 >= NEW.quota * 4) WHERE id = NEW.id;
END;
CREATE TRIGGER accounts_warned AFTER UPDATE OF held_bytes ON accounts WHEN NEW.quota > 0 AND (NEW.held_bytes * 5 >= NEW.quota * 4) <> (NEW.warned > 0) BEGIN
    UPDATE accounts SET warned = (NEW.held_bytes * 5 >= NEW.quota * 4) WHERE id = NEW.id;
END;
CREATE TRIGGER repositories_warned AFTER UPDATE OF tag_count ON repositories WHEN NEW.tag_quota > 0 AND (NEW.tag_count * 5 >= NEW.tag_quota * 4) <> (NEW.warned > 0) BEGIN
    UPDATE repositories SET warned = (NEW.tag_count * 5 >= NEW.tag_quota * 4) WHERE id = NEW.id;
END;
CREATE TRIGGER tags_count_come AFTER INSERT ON tags WHEN NEW.removal_id = 0 BEGIN
    UPDATE repositories SET tag_count = tag_count + 1 WHERE id = NEW.repository_id;
END;
CREATE TRIGGER tags_count_change AFTER UPDATE OF removal_id ON tags WHEN (OLD.removal_id = 0) <> (NEW.removal_id = 0) BEGIN
    UPDATE repositories SET tag_count = tag_count + (NEW.removal_id = 0) - (OLD.removal_id = 0) WHERE id = NEW.repository_id;
END;
CREATE TRIGGER tags_count_go AFTER DELETE ON tags WHEN OLD.removal_id = 0 BEGIN
    UPDATE repositories SET tag_count = tag_count - 1 WHERE id = OLD.repository_id;
END;

-- step: how much there was, a line a day
-- day counts from the first of January 1970, UTC. A row without a repository is of the
-- namespace, one without a namespace of the registry. seen counts content in each repository,
-- own is what nothing else holds, waiting what waits for restore windows.
CREATE TABLE usage_samples (
    namespace_id  INTEGER NOT NULL,
    repository_id INTEGER NOT NULL,
    day           INTEGER NOT NULL,
    seen          INTEGER NOT NULL,
    own           INTEGER NOT NULL,
    waiting       INTEGER NOT NULL,
    images        INTEGER NOT NULL,
    tags          INTEGER NOT NULL,
    PRIMARY KEY (namespace_id, repository_id, day)
) WITHOUT ROWID;
CREATE INDEX usage_samples_by_day ON usage_samples (day);
CREATE TABLE traffic (
    day          INTEGER NOT NULL,
    namespace_id INTEGER NOT NULL,
    account_id   INTEGER NOT NULL,
    pulls        INTEGER NOT NULL DEFAULT 0,
    pushes       INTEGER NOT NULL DEFAULT 0,
    bytes_out    INTEGER NOT NULL DEFAULT 0,
    bytes_in     INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (day, namespace_id, account_id)
) WITHOUT ROWID;
CREATE INDEX traffic_by_namespace ON traffic (namespace_id, day);
