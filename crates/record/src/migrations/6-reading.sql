-- Whether the host said that the model declined to answer.
ALTER TABLE attempts ADD COLUMN refused INTEGER NOT NULL DEFAULT 0;

-- How the answer was read: what each block was taken for, in JSON; NULL: an older version did not say.
ALTER TABLE attempts ADD COLUMN reading TEXT;
