-- What standings need of each trial that is over, so that a million of them are counted in a moment. It is
-- computed from the other tables whenever these change, in the same transaction, and can be checked against them.
CREATE TABLE figures (
    candidate     TEXT NOT NULL,
    task          TEXT NOT NULL,
    sample        INTEGER NOT NULL,
    verdict       TEXT NOT NULL,
    reason        TEXT,
    answers       INTEGER NOT NULL,
    deviating     INTEGER NOT NULL,
    -- Whether it passed with an answer in the form asked for.
    strict        INTEGER NOT NULL,
    credit        REAL NOT NULL,
    seconds       REAL NOT NULL,
    tokens_input  INTEGER NOT NULL,
    tokens_cached INTEGER NOT NULL,
    tokens_output INTEGER NOT NULL,
    estimated     INTEGER NOT NULL,
    cost          REAL NOT NULL,
    -- Trouble on the way; NULL: it was not looked for.
    same_failure  INTEGER,
    undone        INTEGER NOT NULL,
    repeated      INTEGER NOT NULL,
    turned_red    INTEGER NOT NULL,
    false_claims  INTEGER NOT NULL,
    helped        INTEGER NOT NULL,
    PRIMARY KEY (candidate, task, sample),
    FOREIGN KEY (candidate, task, sample) REFERENCES trials
) STRICT, WITHOUT ROWID;

INSERT INTO figures
WITH a AS (
    SELECT candidate, task, sample, count(*) AS answers, max(attempt) AS last,
        count(CASE WHEN deviations <> '[]' THEN 1 END) AS deviating,
        sum(answer_seconds) AS seconds, sum(same_failure) AS same_failure,
        sum(undone) AS undone, sum(repeated) AS repeated, sum(turned_red) AS turned_red,
        sum(false_claims) AS false_claims
    FROM attempts GROUP BY candidate, task, sample),
r AS (
    SELECT candidate, task, sample, sum(cost) AS cost, max(estimated) AS estimated,
        sum(CASE WHEN outcome = 'answered' THEN seconds END) AS seconds,
        sum(tokens_input) AS input, sum(tokens_cached) AS cached, sum(tokens_output) AS output
    FROM requests GROUP BY candidate, task, sample)
SELECT t.candidate, t.task, t.sample, t.verdict, t.reason, coalesce(a.answers, 0),
    coalesce(a.deviating, 0), t.verdict = 'pass' AND coalesce(l.deviations, '[]') = '[]',
    coalesce(l.credit, 0.0), coalesce(a.seconds, r.seconds, 0.0), coalesce(r.input, 0),
    coalesce(r.cached, 0), coalesce(r.output, 0), coalesce(r.estimated, 0), coalesce(r.cost, 0.0),
    a.same_failure, coalesce(a.undone, 0), coalesce(a.repeated, 0), coalesce(a.turned_red, 0),
    coalesce(a.false_claims, 0), t.helped IS NOT NULL
FROM trials t LEFT JOIN a USING (candidate, task, sample) LEFT JOIN r USING (candidate, task, sample)
    LEFT JOIN attempts l ON l.candidate = t.candidate AND l.task = t.task AND l.sample = t.sample
        AND l.attempt = a.last
WHERE t.verdict IS NOT NULL;
