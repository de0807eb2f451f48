-- step: runs, the work beside requests
-- point is where a run goes on after it was cut, in words of its kind; begun_served and
-- ended_served are served time, all other times wall time.
CREATE TABLE runs (
    id           INTEGER PRIMARY KEY AUTOINCREMENT,
    kind         TEXT    NOT NULL,
    place        TEXT    NOT NULL,
    cause        TEXT    NOT NULL,
    asked_by     INTEGER NOT NULL,
    state        TEXT    NOT NULL,
    step         TEXT    NOT NULL DEFAULT '',
    done         INTEGER NOT NULL DEFAULT 0,
    total        INTEGER NOT NULL DEFAULT 0,
    unit         TEXT    NOT NULL DEFAULT '',
    point        TEXT    NOT NULL DEFAULT '',
    report       TEXT    NOT NULL DEFAULT '',
    error        TEXT    NOT NULL DEFAULT '',
    tries        INTEGER NOT NULL DEFAULT 0,
    asked_at     INTEGER NOT NULL,
    asked_served INTEGER NOT NULL,
    began_at     INTEGER NOT NULL DEFAULT 0,
    ended_at     INTEGER NOT NULL DEFAULT 0,
    ended_served INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX runs_by_kind ON runs (kind, place, id);
CREATE INDEX runs_open ON runs (id) WHERE state IN ('waiting', 'going');
CREATE INDEX runs_ended ON runs (ended_served) WHERE ended_at <> 0;

-- step: when what runs by itself ran last
CREATE TABLE schedules (
    kind       TEXT    PRIMARY KEY,
    ran_at     INTEGER NOT NULL,
    ran_served INTEGER NOT NULL
) WITHOUT ROWID;
