-- A case changes by edits. What each did is kept once, in the order in which it was done, and never changed; the document of the case is
-- kept as it is now and no copy of it for each step.

CREATE TABLE case_event (
  workshop_id uuid NOT NULL,
  case_id uuid NOT NULL,
  -- The version of the case that it led to.
  sequence integer NOT NULL,
  -- Made by whoever made the edit: what is sent twice is kept once.
  id uuid NOT NULL,
  -- When it was done, and when it was kept.
  at_time timestamptz NOT NULL,
  at timestamptz NOT NULL DEFAULT now(),
  person text NOT NULL,
  what text NOT NULL,
  -- The edit, and what it changed; none of what was done before this table, and of the opening of a case.
  edit jsonb,
  changes jsonb,
  takes_back uuid,
  -- Of what was done before this table: whether it was taken back.
  was_undone boolean NOT NULL DEFAULT false,
  PRIMARY KEY (case_id, sequence),
  UNIQUE (case_id, id),
  FOREIGN KEY (workshop_id, case_id) REFERENCES case_file (workshop_id, id) ON DELETE CASCADE
);

-- What is there already. The owner of the tables is held by the policies too: each workshop in its turn.
DO $$
DECLARE w uuid;
BEGIN
  ALTER TABLE workshop NO FORCE ROW LEVEL SECURITY;
  FOR w IN SELECT id FROM workshop LOOP
    PERFORM set_config('app.workshop', w::text, true);
    INSERT INTO case_event (workshop_id, case_id, sequence, id, at_time, at, person, what, was_undone)
      SELECT workshop_id, case_id, version, gen_random_uuid(), at, at, person, what, undone FROM case_step WHERE workshop_id = w;
  END LOOP;
  PERFORM set_config('app.workshop', '', true);
  ALTER TABLE workshop FORCE ROW LEVEL SECURITY;
END $$;
DROP TABLE case_step;

ALTER TABLE case_event ENABLE ROW LEVEL SECURITY;
ALTER TABLE case_event FORCE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON case_event USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
-- Nobody changes what was done.
GRANT SELECT, INSERT ON case_event TO baricord_app;
