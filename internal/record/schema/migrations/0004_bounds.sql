-- What a credential was made from: it is bounded by that, and ends with it. 0 is
-- for what a password or the company's login gave.
ALTER TABLE tokens ADD COLUMN parent_id INTEGER NOT NULL DEFAULT 0;
ALTER TABLE tokens ADD COLUMN rule_id INTEGER NOT NULL DEFAULT 0;
CREATE INDEX tokens_by_parent ON tokens (parent_id) WHERE parent_id <> 0;
CREATE INDEX tokens_by_rule ON tokens (rule_id) WHERE rule_id <> 0;

-- A line of the audit log belongs to the place that its names meant when it was
-- written. Older lines belong to the place that had the name at their time.
ALTER TABLE events ADD COLUMN namespace_id INTEGER NOT NULL DEFAULT 0;
ALTER TABLE events ADD COLUMN repository_id INTEGER NOT NULL DEFAULT 0;
-- Whether anybody could pull there when it was written.
ALTER TABLE events ADD COLUMN open INTEGER NOT NULL DEFAULT 0;
UPDATE events SET repository_id = coalesce((SELECT id FROM repositories
    WHERE repositories.name = events.repository AND repositories.created_at <= events.at
        AND (repositories.removed_at = 0 OR repositories.removed_at >= events.at)
    ORDER BY repositories.created_at DESC LIMIT 1), 0) WHERE repository <> '';
UPDATE events SET namespace_id = coalesce((SELECT id FROM namespaces
    WHERE namespaces.name = CASE
            WHEN events.repository <> '' THEN substr(events.repository || '/', 1, instr(events.repository || '/', '/') - 1)
            ELSE substr(events.subject, length('namespace ') + 1) END
        AND namespaces.created_at <= events.at
        AND (namespaces.removed_at = 0 OR namespaces.removed_at >= events.at)
    ORDER BY namespaces.created_at DESC LIMIT 1), 0)
    WHERE repository <> '' OR subject LIKE 'namespace %';
CREATE INDEX events_by_namespace ON events (namespace_id, id);

-- The roles of a place, for who can give one there.
CREATE INDEX grants_by_place ON grants (namespace_id, repository_id);
