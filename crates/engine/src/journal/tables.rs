//! The tables of the journal, version by version.

/// Version of the tables.
pub(super) const VERSION: i64 = 8;

/// What each version has beside the one before, from the first on.
pub(super) const TABLES: [&str; VERSION as usize] = [
    "
CREATE TABLE work (
    id INTEGER PRIMARY KEY,
    kind TEXT NOT NULL,
    plan TEXT,
    store TEXT NOT NULL,
    machine TEXT NOT NULL,
    version TEXT NOT NULL,
    process TEXT NOT NULL,
    started INTEGER NOT NULL,
    ended INTEGER,
    outcome TEXT NOT NULL,
    snapshot BLOB,
    new INTEGER NOT NULL DEFAULT 0,
    changed INTEGER NOT NULL DEFAULT 0,
    gone INTEGER NOT NULL DEFAULT 0,
    same INTEGER NOT NULL DEFAULT 0,
    skipped INTEGER NOT NULL DEFAULT 0,
    bytes_read INTEGER NOT NULL DEFAULT 0,
    bytes_new INTEGER NOT NULL DEFAULT 0,
    bytes_stored INTEGER NOT NULL DEFAULT 0,
    exceptions INTEGER NOT NULL DEFAULT 0,
    words TEXT,
    hint TEXT
) STRICT;
CREATE INDEX work_by_time ON work (started);
CREATE TABLE exception (
    work INTEGER NOT NULL REFERENCES work (id) ON DELETE CASCADE,
    path BLOB NOT NULL,
    reason TEXT NOT NULL
) STRICT;
CREATE INDEX exception_by_work ON exception (work);
",
    "
CREATE TABLE rule (
    work INTEGER NOT NULL REFERENCES work (id) ON DELETE CASCADE,
    rule TEXT NOT NULL,
    decided INTEGER NOT NULL
) STRICT;
CREATE INDEX rule_by_work ON rule (work);
",
    "
CREATE TABLE drive (
    store TEXT NOT NULL,
    drive TEXT NOT NULL,
    id TEXT NOT NULL,
    seen INTEGER NOT NULL,
    newest INTEGER,
    PRIMARY KEY (store, drive)
) STRICT;
",
    "
ALTER TABLE work ADD COLUMN unattended INTEGER NOT NULL DEFAULT 0;
CREATE TABLE step (
    work INTEGER NOT NULL REFERENCES work (id) ON DELETE CASCADE,
    kind TEXT NOT NULL,
    subject TEXT NOT NULL,
    started INTEGER NOT NULL,
    ended INTEGER,
    outcome TEXT NOT NULL,
    words TEXT,
    code INTEGER,
    output TEXT
) STRICT;
CREATE INDEX step_by_work ON step (work);
CREATE INDEX work_by_plan ON work (plan, started);
CREATE TABLE trouble (
    plan TEXT NOT NULL,
    topic TEXT NOT NULL,
    since INTEGER NOT NULL,
    told INTEGER NOT NULL,
    times INTEGER NOT NULL,
    PRIMARY KEY (plan, topic)
) STRICT;
CREATE TABLE message (
    id INTEGER PRIMARY KEY,
    channel TEXT NOT NULL,
    plan TEXT NOT NULL,
    topic TEXT NOT NULL,
    work INTEGER,
    made INTEGER NOT NULL,
    subject TEXT NOT NULL,
    body TEXT NOT NULL,
    facts TEXT NOT NULL,
    tries INTEGER NOT NULL DEFAULT 0,
    next INTEGER NOT NULL,
    claimed TEXT,
    sent INTEGER,
    given_up INTEGER,
    words TEXT
) STRICT;
CREATE INDEX message_open ON message (next) WHERE sent IS NULL AND given_up IS NULL;
CREATE TABLE sign (
    name TEXT PRIMARY KEY,
    value INTEGER NOT NULL
) STRICT;
",
    "
CREATE TABLE heard (
    plan TEXT NOT NULL,
    topic TEXT NOT NULL,
    channel TEXT NOT NULL,
    told INTEGER NOT NULL,
    PRIMARY KEY (plan, topic, channel)
) STRICT;
",
    "
ALTER TABLE exception ADD COLUMN cause TEXT NOT NULL DEFAULT 'other';
",
    "
CREATE TABLE drill (
    work INTEGER PRIMARY KEY REFERENCES work (id) ON DELETE CASCADE,
    plan TEXT NOT NULL,
    store TEXT NOT NULL,
    started INTEGER NOT NULL,
    snapshot BLOB NOT NULL,
    made INTEGER NOT NULL,
    whole INTEGER NOT NULL,
    as_lost INTEGER NOT NULL,
    files INTEGER NOT NULL,
    all_files INTEGER NOT NULL,
    bytes INTEGER NOT NULL,
    all_bytes INTEGER NOT NULL,
    wrong INTEGER NOT NULL,
    whole_seconds REAL
) STRICT;
CREATE INDEX drill_by_plan ON drill (plan, started);
CREATE TABLE tried (
    plan TEXT NOT NULL,
    mark BLOB NOT NULL,
    work INTEGER NOT NULL,
    PRIMARY KEY (plan, mark)
) STRICT;
",
    "
CREATE TABLE proven (
    store TEXT NOT NULL,
    container TEXT NOT NULL,
    at INTEGER NOT NULL,
    PRIMARY KEY (store, container)
) STRICT;
",
];
