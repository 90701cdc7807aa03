-- Personal access tokens: the secret itself is kept by its owner alone, here stands its SHA-256.

CREATE TABLE access_token (
  id uuid PRIMARY KEY,
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  person_id uuid NOT NULL REFERENCES person(id) ON DELETE CASCADE,
  name text NOT NULL,
  secret_hash bytea NOT NULL UNIQUE,
  created_at timestamptz NOT NULL DEFAULT now(),
  used_at timestamptz
);
ALTER TABLE access_token ENABLE ROW LEVEL SECURITY;
ALTER TABLE access_token FORCE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON access_token USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
GRANT SELECT, INSERT, UPDATE, DELETE ON access_token TO baricord_app;

-- Whose token it is, asked before a workshop is known; that it was used is noted.
CREATE FUNCTION person_of_token(hash bytea) RETURNS SETOF person
  LANGUAGE sql VOLATILE SECURITY DEFINER SET search_path = public AS
  $$ WITH used AS (UPDATE access_token SET used_at = now() WHERE secret_hash = hash RETURNING person_id)
     SELECT p.* FROM person p JOIN used ON used.person_id = p.id $$;
REVOKE ALL ON FUNCTION person_of_token FROM PUBLIC;
GRANT EXECUTE ON FUNCTION person_of_token TO baricord_app;
