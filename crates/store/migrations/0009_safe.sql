-- Roles with narrow rights, rows that cannot point into another workshop, analyses with a lease, ids that
-- are never used again, and people of the demo apart from real ones.

-- Owns the few functions that are asked before a workshop is known. It signs in nowhere, owns no table, and
-- may read or write no more than those functions need. An owner who may not make roles is given it: see
-- docs/install.md.
DO $$ BEGIN
  IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = 'baricord_definer') THEN
    CREATE ROLE baricord_definer NOLOGIN NOSUPERUSER BYPASSRLS;
  END IF;
EXCEPTION WHEN duplicate_object OR unique_violation THEN NULL;
END $$;

-- The people of the demo workshop sign in where the demo runs, and nowhere else.
ALTER TABLE workshop ADD COLUMN demo boolean NOT NULL DEFAULT false;
ALTER TABLE person ADD COLUMN demo boolean NOT NULL DEFAULT false;

-- The last number that a run of a case was given: an id is never used again, also after an undo.
ALTER TABLE case_file ADD COLUMN last_run integer NOT NULL DEFAULT 0;

-- Which version of the case an analysis read; which claim of a job is the one that counts.
ALTER TABLE case_analysis ADD COLUMN version integer NOT NULL DEFAULT 0;
ALTER TABLE job ADD COLUMN lease uuid;

-- What is there already. The owner of the tables is held by the policies too: each workshop in its turn.
DO $$
DECLARE w uuid;
BEGIN
  ALTER TABLE workshop NO FORCE ROW LEVEL SECURITY;
  FOR w IN SELECT id FROM workshop LOOP
    PERFORM set_config('app.workshop', w::text, true);
    UPDATE person SET demo = true WHERE email LIKE '%@harrowmere.example' AND workshop_id = w
      AND EXISTS (SELECT FROM person p WHERE p.email = 'maren@harrowmere.example' AND p.workshop_id = w);
    UPDATE workshop SET demo = true WHERE id = w AND EXISTS (SELECT FROM person p WHERE p.demo AND p.workshop_id = w);
    -- Cases of the demo workshop are demo cases, in each state that they were in.
    IF EXISTS (SELECT FROM workshop WHERE id = w AND demo) THEN
      UPDATE case_file SET document = '{"demo":true,' || substr(document, 2)
        WHERE workshop_id = w AND document LIKE '{"%' AND strpos(document, '"demo":') = 0;
      UPDATE case_step SET document = '{"demo":true,' || substr(document, 2)
        WHERE workshop_id = w AND document LIKE '{"%' AND strpos(document, '"demo":') = 0;
    END IF;
    UPDATE case_file c SET last_run = coalesce((
      SELECT max(n[1]::integer) FROM case_step s, regexp_matches(s.document, '"id":"R([0-9]{1,6})"', 'g') n
      WHERE s.case_id = c.id AND s.workshop_id = w), 0) WHERE c.workshop_id = w;
    -- An escaped NUL is no text: it breaks every search.
    UPDATE case_file SET document = regexp_replace(document, '(?<!\\)((\\\\)*)\\u0000', '\1', 'g')
      WHERE workshop_id = w AND strpos(document, '\u0000') > 0;
    UPDATE case_step SET document = regexp_replace(document, '(?<!\\)((\\\\)*)\\u0000', '\1', 'g')
      WHERE workshop_id = w AND strpos(document, '\u0000') > 0;
    UPDATE case_analysis a SET version = c.version FROM case_file c WHERE c.id = a.case_id AND a.workshop_id = w;
  END LOOP;
  PERFORM set_config('app.workshop', '', true);
  ALTER TABLE workshop FORCE ROW LEVEL SECURITY;
END $$;

-- A row belongs to the workshop of what it belongs to.
ALTER TABLE case_file ADD UNIQUE (workshop_id, id);
ALTER TABLE recording ADD UNIQUE (workshop_id, id);
ALTER TABLE incoming ADD UNIQUE (workshop_id, id);
ALTER TABLE drive ADD UNIQUE (workshop_id, id);
ALTER TABLE vehicle ADD UNIQUE (workshop_id, id);
ALTER TABLE person ADD UNIQUE (workshop_id, id);
DO $$
DECLARE
  link text[];
  links text[][] := ARRAY[
    ['case_step', 'case_id', 'case_file'], ['case_blob', 'case_id', 'case_file'], ['recording', 'case_id', 'case_file'],
    ['case_analysis', 'case_id', 'case_file'], ['order_map', 'case_id', 'case_file'], ['job', 'case_id', 'case_file'],
    ['incoming', 'case_id', 'case_file'], ['drive', 'case_id', 'case_file'], ['opinion', 'case_id', 'case_file'],
    ['recording_chunk', 'recording_id', 'recording'], ['incoming_piece', 'incoming_id', 'incoming'],
    ['incoming', 'of_id', 'incoming'], ['drive_piece', 'drive_id', 'drive'], ['job', 'drive_id', 'drive'],
    ['access_token', 'person_id', 'person']];
BEGIN
  FOREACH link SLICE 1 IN ARRAY links LOOP
    EXECUTE format('ALTER TABLE %I DROP CONSTRAINT %I', link[1], link[1] || '_' || link[2] || '_fkey');
    EXECUTE format('ALTER TABLE %I ADD CONSTRAINT %I FOREIGN KEY (workshop_id, %I) REFERENCES %I (workshop_id, id) ON DELETE CASCADE',
      link[1], link[1] || '_' || link[2] || '_fkey', link[2], link[3]);
  END LOOP;
END $$;
ALTER TABLE case_file DROP CONSTRAINT case_file_vehicle_id_fkey;
ALTER TABLE case_file ADD CONSTRAINT case_file_vehicle_id_fkey
  FOREIGN KEY (workshop_id, vehicle_id) REFERENCES vehicle (workshop_id, id) ON DELETE SET NULL (vehicle_id);

-- Nobody makes tables of their own beside these.
DO $$ BEGIN EXECUTE format('REVOKE TEMPORARY ON DATABASE %I FROM PUBLIC', current_database()); END $$;
REVOKE CREATE ON SCHEMA public FROM PUBLIC;
GRANT DELETE ON person TO baricord_app;

-- The questions that are asked before a workshop is known, each answering one row.
DROP FUNCTION person_to_sign_in(text);
DROP FUNCTION person_of_session(uuid);
DROP FUNCTION person_of_token(bytea);
DROP FUNCTION opinion_of_link(bytea);
DROP FUNCTION has_workshop();
DROP FUNCTION claim_job();

CREATE FUNCTION person_to_sign_in(wanted text) RETURNS SETOF person
  LANGUAGE sql STABLE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS
  $$ SELECT * FROM public.person WHERE email = lower(wanted) $$;
CREATE FUNCTION person_of_session(wanted uuid) RETURNS SETOF person
  LANGUAGE sql STABLE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS
  $$ SELECT * FROM public.person WHERE id = wanted $$;
-- Whose token it is; that it was used is noted.
CREATE FUNCTION person_of_token(hash bytea) RETURNS SETOF person
  LANGUAGE sql VOLATILE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS
  $$ WITH used AS (UPDATE public.access_token SET used_at = now() WHERE secret_hash = hash RETURNING person_id)
     SELECT p.* FROM public.person p JOIN used ON used.person_id = p.id $$;
-- Which case a link shows: nothing once it has ended or was taken back.
CREATE FUNCTION opinion_of_link(hash bytea) RETURNS SETOF opinion
  LANGUAGE sql STABLE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS
  $$ SELECT * FROM public.opinion WHERE secret_hash = hash AND NOT revoked AND ends_at > now() $$;
CREATE FUNCTION has_workshop() RETURNS boolean
  LANGUAGE sql STABLE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS
  $$ SELECT EXISTS (SELECT 1 FROM public.workshop) $$;
-- Workshops of a name, for the command line.
CREATE FUNCTION workshops_named(wanted text) RETURNS SETOF uuid
  LANGUAGE sql STABLE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS
  $$ SELECT id FROM public.workshop WHERE lower(name) = lower(wanted) $$;
-- Takes the next job that waits, or whose worker has not been heard of for a while. A job whose worker has
-- died four times is given up, and its drive with it.
CREATE FUNCTION claim_job() RETURNS TABLE (job_id uuid, job_workshop uuid, job_case uuid, job_drive uuid, job_lease uuid)
  LANGUAGE sql VOLATILE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS
  $$ WITH dead AS (
       UPDATE public.job SET state = 'failed', lease = NULL, problem = 'the program ended four times while at this: ' || what
       WHERE state = 'running' AND heartbeat < now() - interval '20 seconds' AND attempts >= 4 RETURNING drive_id),
     ended AS (
       UPDATE public.drive SET state = 'failed', problem = 'the program ended four times while driving'
       WHERE id IN (SELECT drive_id FROM dead) AND state NOT IN ('done', 'failed'))
     UPDATE public.job SET state = 'running', attempts = attempts + 1, heartbeat = now(), lease = gen_random_uuid(),
         what = CASE WHEN attempts = 0 THEN 'starting' ELSE what END
     WHERE id = (SELECT id FROM public.job
                 WHERE (state = 'queued' OR (state = 'running' AND heartbeat < now() - interval '20 seconds')) AND attempts < 4
                 ORDER BY created_at FOR UPDATE SKIP LOCKED LIMIT 1)
     RETURNING id, workshop_id, case_id, drive_id, lease $$;

GRANT USAGE ON SCHEMA public TO baricord_definer;
GRANT SELECT ON person, opinion TO baricord_definer;
GRANT SELECT (id, name) ON workshop TO baricord_definer;
GRANT SELECT (secret_hash, person_id), UPDATE (used_at) ON access_token TO baricord_definer;
GRANT SELECT, UPDATE (state, attempts, heartbeat, what, problem, lease) ON job TO baricord_definer;
GRANT SELECT (id, state), UPDATE (state, problem) ON drive TO baricord_definer;
-- Functions are given to an owner that may make some; a moment later it may not any more.
GRANT CREATE ON SCHEMA public TO baricord_definer;
DO $$
DECLARE f text;
BEGIN
  FOREACH f IN ARRAY ARRAY['person_to_sign_in(text)', 'person_of_session(uuid)', 'person_of_token(bytea)', 'opinion_of_link(bytea)',
                           'has_workshop()', 'workshops_named(text)', 'claim_job()'] LOOP
    EXECUTE 'REVOKE ALL ON FUNCTION ' || f || ' FROM PUBLIC';
    EXECUTE 'GRANT EXECUTE ON FUNCTION ' || f || ' TO baricord_app';
    EXECUTE 'ALTER FUNCTION ' || f || ' OWNER TO baricord_definer';
  END LOOP;
END $$;
REVOKE CREATE ON SCHEMA public FROM baricord_definer;
