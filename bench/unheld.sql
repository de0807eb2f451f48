SELECT repository_id FROM holdings WHERE ended_at = 0
    AND NOT EXISTS (SELECT 1 FROM edges WHERE edges.content_id = holdings.content_id AND edges.repository_id = holdings.repository_id)
    ORDER BY repository_id, content_id;
SELECT content_id FROM blobs
    WHERE NOT EXISTS (SELECT 1 FROM holdings WHERE holdings.content_id = blobs.content_id)
    AND NOT EXISTS (SELECT 1 FROM manifests WHERE manifests.content_id = blobs.content_id)
    ORDER BY content_id
