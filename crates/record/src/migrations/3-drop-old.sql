PRAGMA defer_foreign_keys = ON;
DELETE FROM blobs
WHERE digest IN (SELECT detail FROM old_outcomes) AND digest NOT IN (
    SELECT prompt FROM trials
    UNION ALL SELECT answer FROM attempts
    UNION ALL SELECT code FROM attempts WHERE code IS NOT NULL
    UNION ALL SELECT message FROM attempts WHERE message IS NOT NULL
    UNION ALL SELECT feedback FROM attempts WHERE feedback IS NOT NULL
    UNION ALL SELECT tests FROM attempts WHERE tests IS NOT NULL
    UNION ALL SELECT tests FROM regrades
);
DROP TABLE old_regrades;
DROP TABLE old_outcomes;
DROP TABLE old_requests;
DROP TABLE old_attempts;
DROP TABLE old_trials;
