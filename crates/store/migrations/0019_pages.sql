-- Pages of cases as they were rendered, so that nobody waits for them who looks a second time, after a restart, or after an edit at
-- another page than the one that the edit led to.

-- The symptom that a case's pages are about where none is asked for, and the state of the case of which that is true.
ALTER TABLE case_file ADD COLUMN about text, ADD COLUMN about_stamp uuid;

CREATE TABLE case_page (
  workshop_id uuid NOT NULL,
  case_id uuid NOT NULL,
  -- Which page, of which symptom, and for whom: what they may do, how they see it.
  slot text NOT NULL,
  -- Everything that it shows, as a hash: of another state it is another page.
  state bytea NOT NULL,
  -- HTML, packed by LZ4.
  body bytea NOT NULL,
  made_at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (case_id, slot),
  FOREIGN KEY (workshop_id, case_id) REFERENCES case_file (workshop_id, id) ON DELETE CASCADE
);
ALTER TABLE case_page ALTER COLUMN body SET STORAGE EXTERNAL;
CREATE INDEX case_page_age ON case_page (workshop_id, made_at);
ALTER TABLE case_page ENABLE ROW LEVEL SECURITY;
ALTER TABLE case_page FORCE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON case_page USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
GRANT SELECT, INSERT, UPDATE, DELETE ON case_page TO baricord_app;
