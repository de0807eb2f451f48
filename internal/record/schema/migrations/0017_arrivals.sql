-- What is carried in by list, in one go or over days: copies, parcels, imports. While one is
-- open, no sweep takes what came into its repositories since it began and waits for a manifest.
CREATE TABLE arrivals (
    id           INTEGER PRIMARY KEY AUTOINCREMENT,
    kind         TEXT    NOT NULL,
    name         TEXT    NOT NULL,
    source       TEXT    NOT NULL DEFAULT '',
    account_id   INTEGER NOT NULL,
    state        TEXT    NOT NULL,
    began_at     INTEGER NOT NULL,
    began_served INTEGER NOT NULL,
    until_served INTEGER NOT NULL,
    heard_at     INTEGER NOT NULL,
    heard_served INTEGER NOT NULL,
    ended_at     INTEGER NOT NULL DEFAULT 0,
    images       INTEGER NOT NULL DEFAULT 0,
    images_done  INTEGER NOT NULL DEFAULT 0,
    lacks        INTEGER NOT NULL DEFAULT 0,
    bytes        INTEGER NOT NULL DEFAULT 0,
    bytes_done   INTEGER NOT NULL DEFAULT 0,
    rate         INTEGER NOT NULL DEFAULT 0,
    says         TEXT    NOT NULL DEFAULT '',
    report       BLOB
);
CREATE INDEX arrivals_open ON arrivals (until_served) WHERE ended_at = 0;
CREATE INDEX arrivals_by_account ON arrivals (account_id, id);
CREATE TABLE arrival_places (
    arrival_id INTEGER NOT NULL REFERENCES arrivals (id),
    repository TEXT    NOT NULL,
    PRIMARY KEY (arrival_id, repository)
) WITHOUT ROWID;
CREATE INDEX arrival_places_by_repository ON arrival_places (repository);
