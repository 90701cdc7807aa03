-- What pages ask for at one glance.

-- The day on which a case was opened, as it says itself; else the day on which it was taken in.
ALTER TABLE case_file ADD COLUMN opened text;
DO $$
DECLARE w uuid;
BEGIN
  ALTER TABLE workshop NO FORCE ROW LEVEL SECURITY;
  FOR w IN SELECT id FROM workshop LOOP
    PERFORM set_config('app.workshop', w::text, true);
    UPDATE case_file SET opened = document::jsonb->>'opened' WHERE workshop_id = w AND strpos(document, '\u0000') = 0;
  END LOOP;
  PERFORM set_config('app.workshop', '', true);
  ALTER TABLE workshop FORCE ROW LEVEL SECURITY;
END $$;

-- What cases are found by stands beside them: it is sorted in when words change, not with every edit. Row-level security would read a
-- whole workshop before it lets the text search see a row; so the workshop stands in what is searched, as a word that nobody can type,
-- and a function that knows no other workshop than the one that is set asks the index.
CREATE TABLE case_search (
  workshop_id uuid NOT NULL,
  case_id uuid PRIMARY KEY,
  -- What is said in the case; and that with what it waits for, and the workshop.
  said tsvector NOT NULL,
  search tsvector NOT NULL,
  FOREIGN KEY (workshop_id, case_id) REFERENCES case_file (workshop_id, id) ON DELETE CASCADE
);
CREATE FUNCTION workshop_word(workshop uuid) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$ SELECT '#' || workshop $$;
CREATE FUNCTION found_by(said tsvector, waits text, workshop uuid) RETURNS tsvector LANGUAGE sql IMMUTABLE PARALLEL SAFE AS
  $$ SELECT said || to_tsvector('english', waits) || array_to_tsvector(ARRAY[public.workshop_word(workshop)]) $$;
ALTER TABLE case_search ENABLE ROW LEVEL SECURITY;
ALTER TABLE case_search FORCE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON case_search USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
GRANT SELECT, INSERT, UPDATE ON case_search TO baricord_app;
DO $$
DECLARE w uuid;
BEGIN
  ALTER TABLE workshop NO FORCE ROW LEVEL SECURITY;
  FOR w IN SELECT id FROM workshop LOOP
    PERFORM set_config('app.workshop', w::text, true);
    INSERT INTO case_search (workshop_id, case_id, said, search)
      SELECT w, id, s, found_by(s, waits_words, w)
      FROM case_file, LATERAL (SELECT to_tsvector('english', title || ' ' || vehicle || ' ' || words)) AS said(s) WHERE workshop_id = w;
  END LOOP;
  PERFORM set_config('app.workshop', '', true);
  ALTER TABLE workshop FORCE ROW LEVEL SECURITY;
END $$;
CREATE INDEX case_search_found ON case_search USING gin (search);
ALTER TABLE case_file DROP COLUMN search, DROP COLUMN words;
CREATE FUNCTION cases_that_say(wanted text, most bigint) RETURNS SETOF uuid
  LANGUAGE sql STABLE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS
  $$ SELECT c.id FROM public.case_search s JOIN public.case_file c ON c.id = s.case_id AND c.workshop_id = s.workshop_id
     WHERE s.workshop_id = public.current_workshop()
       AND s.search @@ (quote_literal(public.workshop_word(public.current_workshop()))::tsquery && to_tsquery('english', wanted))
     ORDER BY c.updated_at DESC LIMIT most $$;
REVOKE ALL ON FUNCTION cases_that_say(text, bigint) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION cases_that_say(text, bigint) TO baricord_app;
GRANT SELECT ON case_search TO baricord_definer;
GRANT SELECT (id, workshop_id, updated_at) ON case_file TO baricord_definer;
GRANT CREATE ON SCHEMA public TO baricord_definer;
ALTER FUNCTION cases_that_say(text, bigint) OWNER TO baricord_definer;
REVOKE CREATE ON SCHEMA public FROM baricord_definer;

-- A document is written whole with each edit: the faster compression, where this server has it.
DO $$ BEGIN
  ALTER TABLE case_file ALTER COLUMN document SET COMPRESSION lz4;
EXCEPTION WHEN feature_not_supported THEN NULL;
END $$;

-- Asked with every request: a function whose plan is kept.
CREATE OR REPLACE FUNCTION person_of_session(wanted uuid) RETURNS SETOF person
  LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS
  $$ BEGIN RETURN QUERY SELECT * FROM public.person WHERE id = wanted; END $$;
