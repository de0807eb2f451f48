-- step: the order of tags that are no versions, in slices of tags
UPDATE tags SET order_key = order_key(name) WHERE id > ? AND id <= ? AND order_key = x'';

-- step: the log of all tags of a repository
CREATE INDEX tag_moves_by_repository ON tag_moves (repository_id, id);
