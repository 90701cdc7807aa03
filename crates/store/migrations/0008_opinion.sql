-- Second opinions: one case shown to one person by a link that ends. The secret is in the link alone, here stands its SHA-256.
CREATE TABLE opinion (
  id uuid PRIMARY KEY,
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  case_id uuid NOT NULL REFERENCES case_file(id) ON DELETE CASCADE,
  secret_hash bytea NOT NULL UNIQUE,
  question text NOT NULL,
  asked_by text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  ends_at timestamptz NOT NULL,
  revoked boolean NOT NULL DEFAULT false,
  answer text,
  answered_by text
);
CREATE INDEX opinion_case ON opinion (case_id);
ALTER TABLE opinion ENABLE ROW LEVEL SECURITY;
ALTER TABLE opinion FORCE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON opinion USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
GRANT SELECT, INSERT, UPDATE, DELETE ON opinion TO baricord_app;

-- Which case a link shows, asked before a workshop is known: nothing once it has ended or was taken back.
CREATE FUNCTION opinion_of_link(hash bytea) RETURNS SETOF opinion
  LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public AS
  $$ SELECT * FROM opinion WHERE secret_hash = hash AND NOT revoked AND ends_at > now() $$;
REVOKE ALL ON FUNCTION opinion_of_link FROM PUBLIC;
GRANT EXECUTE ON FUNCTION opinion_of_link TO baricord_app;
