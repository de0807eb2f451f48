-- step: tags that are sealed by hand
-- first_served is when there first was a tag of the name. sealed_at is 0 while no hand
-- seals it; a rule may.
ALTER TABLE tags ADD COLUMN first_served INTEGER NOT NULL DEFAULT 0;
ALTER TABLE tags ADD COLUMN sealed_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE tags ADD COLUMN sealed_by INTEGER NOT NULL DEFAULT 0;
ALTER TABLE tags ADD COLUMN seal_reason TEXT NOT NULL DEFAULT '';

-- step: when there first were tags of their names, in slices of tags
UPDATE tags SET first_served = coalesce((SELECT tag_names.first_served FROM tag_names
    WHERE tag_names.repository_id = tags.repository_id AND tag_names.name = tags.name AND tag_names.first_served <> 0), moved_served) WHERE id > ? AND id <= ?;

-- step: rule lists
-- A list is that of a namespace, of a repository, or with neither of the registry; a list
-- with a name stands where others use it. version grows with each change of the list, and
-- of those that it uses.
CREATE INDEX tags_sealed ON tags (repository_id) WHERE sealed_at <> 0 AND removal_id = 0;
CREATE TABLE rule_lists (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    kind          TEXT    NOT NULL,
    name          TEXT    NOT NULL DEFAULT '',
    namespace_id  INTEGER NOT NULL DEFAULT 0,
    repository_id INTEGER NOT NULL DEFAULT 0,
    version       INTEGER NOT NULL DEFAULT 1,
    words         TEXT    NOT NULL,
    reason        TEXT    NOT NULL,
    changed_at    INTEGER NOT NULL,
    changed_by    INTEGER NOT NULL
);
CREATE UNIQUE INDEX rule_lists_by_place ON rule_lists (kind, name, namespace_id, repository_id);
CREATE TABLE rule_list_uses (
    list_id INTEGER NOT NULL REFERENCES rule_lists (id),
    used_id INTEGER NOT NULL REFERENCES rule_lists (id),
    PRIMARY KEY (used_id, list_id)
) WITHOUT ROWID;
CREATE INDEX rule_list_uses_by_list ON rule_list_uses (list_id);

-- step: restore windows of namespaces, in nanoseconds, 0 for the registry's
ALTER TABLE namespaces ADD COLUMN restore_window INTEGER NOT NULL DEFAULT 0;
