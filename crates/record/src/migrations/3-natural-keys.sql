-- Rows are known by what they are about, not by numbers of one database: so records can be joined.
ALTER TABLE trials RENAME TO old_trials;
ALTER TABLE attempts RENAME TO old_attempts;
ALTER TABLE requests RENAME TO old_requests;
ALTER TABLE outcomes RENAME TO old_outcomes;
ALTER TABLE regrades RENAME TO old_regrades;
DROP INDEX requests_by_trial;

CREATE TABLE trials (
    candidate TEXT NOT NULL,
    task      TEXT NOT NULL,
    sample    INTEGER NOT NULL,
    -- In which order trials were begun in this record, from 1; people name a trial by it.
    number    INTEGER NOT NULL UNIQUE,
    -- How often it was begun: more than once when it was void before.
    round     INTEGER NOT NULL,
    prompt    TEXT NOT NULL REFERENCES blobs,
    verdict   TEXT,
    reason    TEXT,
    begun     TEXT NOT NULL,
    ended     TEXT,
    PRIMARY KEY (candidate, task, sample)
) STRICT, WITHOUT ROWID;

CREATE TABLE attempts (
    candidate     TEXT NOT NULL,
    task          TEXT NOT NULL,
    sample        INTEGER NOT NULL,
    attempt       INTEGER NOT NULL,
    round         INTEGER NOT NULL,
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
    -- Every test: a JSON array.
    tests         TEXT REFERENCES blobs,
    PRIMARY KEY (candidate, task, sample, attempt),
    FOREIGN KEY (candidate, task, sample) REFERENCES trials
) STRICT, WITHOUT ROWID;

CREATE TABLE requests (
    candidate     TEXT NOT NULL,
    task          TEXT NOT NULL,
    sample        INTEGER NOT NULL,
    round         INTEGER NOT NULL,
    attempt       INTEGER NOT NULL,
    number        INTEGER NOT NULL,
    sent          TEXT NOT NULL,
    -- 'under way' from when it is sent until it is over.
    outcome       TEXT NOT NULL,
    detail        TEXT NOT NULL,
    status        INTEGER,
    seconds       REAL NOT NULL,
    first_token   REAL,
    tokens_input  INTEGER NOT NULL,
    tokens_cached INTEGER NOT NULL,
    tokens_output INTEGER NOT NULL,
    estimated     INTEGER NOT NULL,
    cost          REAL NOT NULL,
    PRIMARY KEY (candidate, task, sample, round, attempt, number),
    FOREIGN KEY (candidate, task, sample) REFERENCES trials
) STRICT, WITHOUT ROWID;

CREATE TABLE regrades (
    grading      INTEGER NOT NULL REFERENCES gradings,
    candidate    TEXT NOT NULL,
    task         TEXT NOT NULL,
    sample       INTEGER NOT NULL,
    attempt      INTEGER NOT NULL,
    verdict      TEXT NOT NULL,
    reason       TEXT,
    tests_passed INTEGER NOT NULL,
    tests_total  INTEGER NOT NULL,
    credit       REAL NOT NULL,
    cause        TEXT,
    notes        TEXT NOT NULL,
    tests        TEXT NOT NULL REFERENCES blobs,
    PRIMARY KEY (grading, candidate, task, sample, attempt),
    FOREIGN KEY (candidate, task, sample, attempt) REFERENCES attempts
) STRICT, WITHOUT ROWID;

INSERT INTO trials
SELECT candidate, task, sample, id, holding, prompt, verdict, reason, begun, ended FROM old_trials;

INSERT INTO attempts
SELECT t.candidate, t.task, t.sample, a.number, a.holding, a.answer_kind, a.answer, a.cut_off,
    a.answered, a.verdict, a.reason, a.tests_passed, a.tests_total, a.credit, a.deviations, a.code,
    a.message, a.notes, a.feedback, a.judge_seconds, NULL
FROM old_attempts a JOIN old_trials t ON t.id = a.trial;

INSERT INTO requests
SELECT t.candidate, t.task, t.sample, r.holding, r.attempt,
    row_number() OVER (PARTITION BY r.trial, r.holding, r.attempt ORDER BY r.id),
    r.sent, r.outcome, r.detail, r.status, r.seconds, r.first_token, r.tokens_input,
    r.tokens_cached, r.tokens_output, r.estimated, r.cost
FROM old_requests r JOIN old_trials t ON t.id = r.trial;

INSERT INTO regrades
SELECT g.grading, t.candidate, t.task, t.sample, a.number, g.verdict, g.reason, g.tests_passed,
    g.tests_total, g.credit, g.cause, g.notes, g.tests
FROM old_regrades g JOIN old_attempts a ON a.id = g.attempt JOIN old_trials t ON t.id = a.trial;
