SELECT repositories.name, contents.digest, blobs.size FROM holdings JOIN repositories ON repositories.id = holdings.repository_id
    JOIN contents ON contents.id = holdings.content_id JOIN blobs ON blobs.content_id = holdings.content_id WHERE ended_at = 0
    AND NOT EXISTS (SELECT 1 FROM edges WHERE edges.content_id = holdings.content_id AND edges.repository_id = holdings.repository_id)
    ORDER BY holdings.repository_id, holdings.content_id;
SELECT 'blob', contents.digest, blobs.size FROM blobs JOIN contents ON contents.id = blobs.content_id
    WHERE NOT EXISTS (SELECT 1 FROM holdings WHERE holdings.content_id = blobs.content_id
        AND EXISTS (SELECT 1 FROM edges WHERE edges.content_id = holdings.content_id AND edges.repository_id = holdings.repository_id))
    AND NOT EXISTS (SELECT 1 FROM manifests WHERE manifests.content_id = blobs.content_id)
    ORDER BY blobs.content_id
