-- A case that nobody works on any more is put away: it is off the board, still found, and comes back.
ALTER TABLE case_file ADD COLUMN archived_at timestamptz;
DROP INDEX case_file_board;
CREATE INDEX case_file_board ON case_file (workshop_id, waits_for, updated_at DESC) WHERE archived_at IS NULL;
CREATE INDEX case_file_archived ON case_file (workshop_id, archived_at DESC) WHERE archived_at IS NOT NULL;
