CREATE TABLE blobs (
    digest  TEXT PRIMARY KEY,
    size    INTEGER NOT NULL,
    content BLOB NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE trials (
    id        INTEGER PRIMARY KEY,
    candidate TEXT NOT NULL,
    task      TEXT NOT NULL,
    sample    INTEGER NOT NULL,
    holding   INTEGER NOT NULL,
    prompt    TEXT NOT NULL REFERENCES blobs,
    verdict   TEXT,
    reason    TEXT,
    begun     TEXT NOT NULL,
    ended     TEXT,
    UNIQUE (candidate, task, sample)
) STRICT;

CREATE TABLE attempts (
    id            INTEGER PRIMARY KEY,
    trial         INTEGER NOT NULL REFERENCES trials,
    holding       INTEGER NOT NULL,
    number        INTEGER NOT NULL,
    answer_kind   TEXT NOT NULL CHECK (answer_kind IN ('text', 'files', 'patch')),
    answer        TEXT NOT NULL REFERENCES blobs,
    cut_off       INTEGER NOT NULL,
    answered      TEXT NOT NULL,
    verdict       TEXT,
    reason        TEXT,
    tests_passed  INTEGER,
    tests_total   INTEGER,
    credit        REAL,
    deviations    TEXT,
    code          TEXT REFERENCES blobs,
    message       TEXT REFERENCES blobs,
    notes         TEXT,
    feedback      TEXT REFERENCES blobs,
    judge_seconds REAL,
    UNIQUE (trial, number)
) STRICT;

CREATE TABLE requests (
    id            INTEGER PRIMARY KEY,
    trial         INTEGER NOT NULL REFERENCES trials,
    holding       INTEGER NOT NULL,
    attempt       INTEGER NOT NULL,
    number        INTEGER NOT NULL,
    sent          TEXT NOT NULL,
    outcome       TEXT NOT NULL,
    detail        TEXT NOT NULL,
    status        INTEGER,
    seconds       REAL NOT NULL,
    first_token   REAL,
    tokens_input  INTEGER NOT NULL,
    tokens_cached INTEGER NOT NULL,
    tokens_output INTEGER NOT NULL,
    estimated     INTEGER NOT NULL,
    cost          REAL NOT NULL
) STRICT;

CREATE TABLE outcomes (
    attempt  INTEGER NOT NULL REFERENCES attempts,
    place    INTEGER NOT NULL,
    name     TEXT NOT NULL,
    visible  INTEGER NOT NULL,
    failed   TEXT,
    detail   TEXT NOT NULL REFERENCES blobs,
    PRIMARY KEY (attempt, place)
) STRICT, WITHOUT ROWID;

CREATE INDEX requests_by_trial ON requests (trial, holding, attempt, number);
