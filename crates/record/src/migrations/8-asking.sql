-- Of the tokens that a request wrote, those of what was thought aloud, where the host counts them.
ALTER TABLE requests ADD COLUMN tokens_reasoning INTEGER NOT NULL DEFAULT 0;

-- What was thought aloud, where the host keeps it apart: the digest of a text; NULL: nothing.
ALTER TABLE requests ADD COLUMN thought TEXT;

-- The record that an answer was taken over from; NULL: it was asked for.
ALTER TABLE attempts ADD COLUMN reused TEXT;
CREATE INDEX reused_answers ON attempts (candidate) WHERE reused IS NOT NULL;

-- The first round of a trial that counts: what earlier ones brought was set aside.
ALTER TABLE trials ADD COLUMN counts_from INTEGER NOT NULL DEFAULT 1;

-- What trials had come to before they were set aside, to be held again.
CREATE TABLE earlier (
    candidate TEXT NOT NULL,
    task TEXT NOT NULL,
    sample INTEGER NOT NULL,
    round INTEGER NOT NULL,
    verdict TEXT NOT NULL,
    reason TEXT,
    -- Why it was held again.
    why TEXT NOT NULL,
    -- When, in UTC, RFC 3339.
    at TEXT NOT NULL,
    -- The digest of its attempts, as JSON.
    attempts TEXT NOT NULL,
    PRIMARY KEY (candidate, task, sample, round)
) STRICT, WITHOUT ROWID;
