-- The board of a workshop with many cases: what is stale and what each lane shows is found by an index; what people search for is kept
-- as PostgreSQL's own search reads it.
ALTER TABLE case_file ADD COLUMN words text NOT NULL DEFAULT '';

-- What is there already. The owner of the tables is held by the policies too: each workshop in its turn.
DO $$
DECLARE w uuid;
BEGIN
  ALTER TABLE workshop NO FORCE ROW LEVEL SECURITY;
  FOR w IN SELECT id FROM workshop LOOP
    PERFORM set_config('app.workshop', w::text, true);
    -- A document with an escaped NUL is no jsonb: it is found by its title and vehicle.
    UPDATE case_file SET words = concat_ws(' ',
        jsonb_path_query_array(document::jsonb, '$.symptoms[*].words')::text,
        jsonb_path_query_array(document::jsonb, '$.symptoms[*].kind')::text,
        jsonb_path_query_array(document::jsonb, '$.attempts[*].what')::text,
        jsonb_path_query_array(document::jsonb, '$.found[*].what')::text,
        replace(jsonb_path_query_array(document::jsonb, '$.repairs[*].fault')::text, '-', ' '))
      WHERE workshop_id = w AND strpos(document, '\u0000') = 0;
  END LOOP;
  PERFORM set_config('app.workshop', '', true);
  ALTER TABLE workshop FORCE ROW LEVEL SECURITY;
END $$;

ALTER TABLE case_file ADD COLUMN search tsvector
  GENERATED ALWAYS AS (to_tsvector('english', title || ' ' || vehicle || ' ' || waits_words || ' ' || words)) STORED;
CREATE INDEX case_file_search ON case_file USING gin (search);
-- What was taken back.
CREATE INDEX case_event_back ON case_event (case_id, takes_back) WHERE takes_back IS NOT NULL;
CREATE INDEX case_file_weighed ON case_file (workshop_id, weighed_by);
