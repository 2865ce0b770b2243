CREATE TABLE gradings (
    id        INTEGER PRIMARY KEY,
    begun     TEXT NOT NULL,
    machine   TEXT NOT NULL,
    -- Answers that could not be judged again: their task or tool is gone.
    left_out  INTEGER NOT NULL
) STRICT;

CREATE TABLE regrades (
    grading      INTEGER NOT NULL REFERENCES gradings,
    attempt      INTEGER NOT NULL REFERENCES attempts,
    verdict      TEXT NOT NULL,
    reason       TEXT,
    tests_passed INTEGER NOT NULL,
    tests_total  INTEGER NOT NULL,
    credit       REAL NOT NULL,
    cause        TEXT,
    notes        TEXT NOT NULL,
    tests        TEXT NOT NULL REFERENCES blobs,
    PRIMARY KEY (grading, attempt)
) STRICT, WITHOUT ROWID;
