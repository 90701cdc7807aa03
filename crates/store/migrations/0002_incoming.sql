-- Files on their way in: kept piece by piece, so that a broken upload goes on where it stopped, and
-- looked at before anything of them becomes part of a case.

CREATE TABLE incoming (
  id uuid PRIMARY KEY,
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  case_id uuid NOT NULL REFERENCES case_file(id) ON DELETE CASCADE,
  -- The recording that this file brings the speed for.
  of_id uuid REFERENCES incoming(id) ON DELETE CASCADE,
  name text NOT NULL,
  size bigint NOT NULL CHECK (size > 0),
  received bigint NOT NULL DEFAULT 0 CHECK (received >= 0 AND received <= size),
  pieces integer NOT NULL DEFAULT 0,
  phase text NOT NULL DEFAULT 'before' CHECK (phase IN ('before', 'after')),
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX incoming_case ON incoming (case_id, created_at);

CREATE TABLE incoming_piece (
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  incoming_id uuid NOT NULL REFERENCES incoming(id) ON DELETE CASCADE,
  piece integer NOT NULL,
  data bytea NOT NULL,
  PRIMARY KEY (incoming_id, piece)
);

DO $$
DECLARE t text;
BEGIN
  FOREACH t IN ARRAY ARRAY['incoming','incoming_piece'] LOOP
    EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
    EXECUTE format('ALTER TABLE %I FORCE ROW LEVEL SECURITY', t);
    EXECUTE format('CREATE POLICY own_workshop ON %I USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop())', t);
    EXECUTE format('GRANT SELECT, INSERT, UPDATE, DELETE ON %I TO baricord_app', t);
  END LOOP;
END $$;
