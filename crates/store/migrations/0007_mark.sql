-- An answer is sent again when its receipt was lost: its mark tells that it is kept already.
ALTER TABLE case_step ADD COLUMN mark text;
CREATE UNIQUE INDEX case_step_mark ON case_step (case_id, mark) WHERE mark IS NOT NULL;
