-- Drives with a recorder: what it has measured so far, piece by piece, so that any copy of the
-- application can show it and go on with it.

CREATE TABLE drive (
  id uuid PRIMARY KEY,
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  case_id uuid NOT NULL REFERENCES case_file(id) ON DELETE CASCADE,
  symptom text NOT NULL,
  person text NOT NULL,
  -- What the recorder is and does, and how many seconds of it pass in one.
  setup text NOT NULL,
  pace double precision NOT NULL DEFAULT 1 CHECK (pace > 0 AND pace <= 64),
  state text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'moving', 'standing', 'done', 'failed')),
  -- The driver has stopped for good.
  ending boolean NOT NULL DEFAULT false,
  -- The legs asked for so far, the last of them under way.
  legs text NOT NULL DEFAULT '[]',
  runs text NOT NULL DEFAULT '[]',
  problem text,
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX drive_case ON drive (case_id, created_at DESC);

CREATE TABLE drive_piece (
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  drive_id uuid NOT NULL REFERENCES drive(id) ON DELETE CASCADE,
  leg integer NOT NULL,
  piece integer NOT NULL,
  samples bytea NOT NULL,
  speed text NOT NULL,
  PRIMARY KEY (drive_id, leg, piece)
);

DO $$
DECLARE t text;
BEGIN
  FOREACH t IN ARRAY ARRAY['drive','drive_piece'] LOOP
    EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
    EXECUTE format('ALTER TABLE %I FORCE ROW LEVEL SECURITY', t);
    EXECUTE format('CREATE POLICY own_workshop ON %I USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop())', t);
    EXECUTE format('GRANT SELECT, INSERT, UPDATE, DELETE ON %I TO baricord_app', t);
  END LOOP;
END $$;

-- A job is an analysis, or a drive that is under way.
ALTER TABLE job ADD COLUMN drive_id uuid REFERENCES drive(id) ON DELETE CASCADE;

DROP FUNCTION claim_job();
CREATE FUNCTION claim_job() RETURNS TABLE (job_id uuid, job_workshop uuid, job_case uuid, job_drive uuid)
  LANGUAGE sql VOLATILE SECURITY DEFINER SET search_path = public AS
  $$ UPDATE job SET state = 'running', attempts = attempts + 1, heartbeat = now(), what = 'starting'
     WHERE id = (SELECT id FROM job
                 WHERE (state = 'queued' OR (state = 'running' AND heartbeat < now() - interval '20 seconds')) AND attempts < 4
                 ORDER BY created_at FOR UPDATE SKIP LOCKED LIMIT 1)
     RETURNING id, workshop_id, case_id, drive_id $$;
REVOKE ALL ON FUNCTION claim_job FROM PUBLIC;
GRANT EXECUTE ON FUNCTION claim_job TO baricord_app;
