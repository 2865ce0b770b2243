-- Trouble on the way to an answer, counted when the attempt was judged; NULL: it was not looked for.
ALTER TABLE attempts ADD COLUMN same_failure INTEGER;
ALTER TABLE attempts ADD COLUMN undone INTEGER;
ALTER TABLE attempts ADD COLUMN repeated INTEGER;
ALTER TABLE attempts ADD COLUMN turned_red INTEGER;
ALTER TABLE attempts ADD COLUMN false_claims INTEGER;

-- Seconds by the clock on the wall that a candidate that acts took; NULL: requests have it.
ALTER TABLE attempts ADD COLUMN answer_seconds REAL;

-- Marks of the files before and after a step, where it changed them: of one file for an edit, of all for a command.
ALTER TABLE steps ADD COLUMN files_before TEXT;
ALTER TABLE steps ADD COLUMN files_after TEXT;
