-- Changes to repositories, what candidates did on the way, and help that a person gave.

-- What the change does, for an answer to a repository: a JSON object. Then `code` is a patch.
ALTER TABLE attempts ADD COLUMN change TEXT REFERENCES blobs;

-- How a candidate that acts ended, and what it said: a JSON object.
ALTER TABLE attempts ADD COLUMN ended_as TEXT REFERENCES blobs;

-- What a person says of the help that was given; NULL: none was.
ALTER TABLE trials ADD COLUMN helped TEXT;

CREATE TABLE steps (
    candidate TEXT NOT NULL,
    task      TEXT NOT NULL,
    sample    INTEGER NOT NULL,
    round     INTEGER NOT NULL,
    attempt   INTEGER NOT NULL,
    number    INTEGER NOT NULL,
    at        TEXT NOT NULL,
    -- Such as 'read', 'edit', 'run', 'plan', 'said', 'refused'.
    kind      TEXT NOT NULL,
    -- What it was about: a path, a command.
    subject   TEXT NOT NULL,
    -- 'done', or why not.
    outcome   TEXT NOT NULL,
    detail    TEXT REFERENCES blobs,
    seconds   REAL NOT NULL,
    PRIMARY KEY (candidate, task, sample, round, attempt, number),
    FOREIGN KEY (candidate, task, sample) REFERENCES trials
) STRICT, WITHOUT ROWID;
