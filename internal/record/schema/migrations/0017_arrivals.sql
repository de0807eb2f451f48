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
    days         INTEGER NOT NULL,
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
-- What is brought in from peers by naming it, once, by hand or at times.
CREATE TABLE imports (
    id         INTEGER PRIMARY KEY AUTOINCREMENT,
    name       TEXT    NOT NULL UNIQUE,
    peer_id    INTEGER NOT NULL REFERENCES peers (id),
    what       TEXT    NOT NULL,
    prefix     TEXT    NOT NULL DEFAULT '',
    no_referrers INTEGER NOT NULL DEFAULT 0,
    overwrites INTEGER NOT NULL DEFAULT 0,
    run_when   TEXT    NOT NULL DEFAULT '',
    made_at    INTEGER NOT NULL,
    made_by    INTEGER NOT NULL,
    ran_at     INTEGER NOT NULL DEFAULT 0,
    ran_served INTEGER NOT NULL DEFAULT 0,
    report     BLOB
);
