-- What is deleted leaves at once for every reader and stays in the records, from
-- where it can be restored. 0 stands for never.
ALTER TABLE manifests ADD COLUMN deleted_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE manifests ADD COLUMN deleted_by TEXT NOT NULL DEFAULT '';
ALTER TABLE holdings ADD COLUMN ended_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE holdings ADD COLUMN ended_by TEXT NOT NULL DEFAULT '';
