-- Records of a million blobs that two million edges name, in 2,000 repositories; one blob
-- in twenty is held in a repository where nothing names it.
INSERT INTO namespaces (name, created_at) WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 50) SELECT 'n' || i, 1 FROM n;
INSERT INTO repositories (namespace_id, name, created_at, pushed_at, pushed_served)
    WITH RECURSIVE n (i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < 1999) SELECT i % 50 + 1, 'n' || (i % 50 + 1) || '/r' || i, 1, i, 1 FROM n;
INSERT INTO contents (digest) WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 1000000) SELECT 'sha256:' || lower(hex(randomblob(32))) FROM n;
INSERT INTO blobs (content_id, size, place, placed_at, touched_served) SELECT id, 1000 + id % 100000, '', 1, 1 FROM contents;
INSERT INTO media_types (id, name) VALUES (1, 'config'), (2, 'layer');
INSERT INTO manifests (id, repository_id, content_id, digest, state, media_type, artifact_type, subject, size, content_size, platforms, annotations, pushed_at, pushed_served, pushed_by, touched_served)
    SELECT id, (id - 1) % 2000 + 1, id, digest, 'live', 'm', '', '', 1500, 50000, 'linux/amd64', '{}', 1, id, 1, id FROM contents WHERE id <= 200000;
INSERT INTO edges (manifest_id, position, repository_id, content_id, relation, media_type_id, size)
    SELECT id, k, repository_id, CASE WHEN content % 20 = 0 THEN content + 1 ELSE content END, CASE k WHEN 0 THEN 1 ELSE 2 END, CASE k WHEN 0 THEN 1 ELSE 2 END, 1
    FROM (SELECT m.id, k, m.repository_id, CASE WHEN k = 1 THEN 200001 WHEN k < 4 THEN 200002 + (m.id * 4 + k) % 799997
            ELSE 200002 + ((m.repository_id - 1) * 400 + ((m.id - 1) / 2000 * 6 + k) % 400) % 799997 END AS content
        FROM manifests AS m, (WITH RECURSIVE n (k) AS (SELECT 0 UNION ALL SELECT k + 1 FROM n WHERE k < 9) SELECT k FROM n));
INSERT INTO holdings (repository_id, content_id, held_at, touched_served) SELECT DISTINCT repository_id, content_id, 1, 1 FROM edges ORDER BY 1, 2;
INSERT OR IGNORE INTO holdings (repository_id, content_id, held_at, touched_served) SELECT id % 2000 + 1, id, 1, 1 FROM contents WHERE id % 20 = 0;
