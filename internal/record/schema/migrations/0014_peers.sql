-- step: peers: other registries
-- secret and client_key are encrypted under a key that is not in the records. can is what the
-- peer was found to be able to, and steps what the last test found, as JSON.
CREATE TABLE peers (
    id                 INTEGER PRIMARY KEY AUTOINCREMENT,
    name               TEXT    NOT NULL UNIQUE,
    address            TEXT    NOT NULL,
    prefix             TEXT    NOT NULL DEFAULT '',
    description        TEXT    NOT NULL DEFAULT '',
    account            TEXT    NOT NULL DEFAULT '',
    secret             BLOB,
    authority          TEXT    NOT NULL DEFAULT '',
    fingerprint        TEXT    NOT NULL DEFAULT '',
    client_certificate TEXT    NOT NULL DEFAULT '',
    client_key         BLOB,
    unencrypted        INTEGER NOT NULL DEFAULT 0,
    version            INTEGER NOT NULL DEFAULT 1,
    can                TEXT    NOT NULL DEFAULT '{}',
    steps              TEXT    NOT NULL DEFAULT '[]',
    failed             TEXT    NOT NULL DEFAULT '',
    tested_at          INTEGER NOT NULL DEFAULT 0,
    made_at            INTEGER NOT NULL,
    made_by            INTEGER NOT NULL DEFAULT 0,
    changed_at         INTEGER NOT NULL,
    changed_by         INTEGER NOT NULL DEFAULT 0
);
