-- The ground: workshops and everything in them. The application connects as baricord_app, which owns
-- no table; row-level security keeps workshops apart even when a query forgets.

DO $$ BEGIN
  IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = 'baricord_app') THEN
    CREATE ROLE baricord_app LOGIN NOSUPERUSER NOBYPASSRLS;
  END IF;
EXCEPTION WHEN duplicate_object OR unique_violation THEN NULL;
END $$;

-- The workshop that this transaction works for; none when it was not said.
CREATE FUNCTION current_workshop() RETURNS uuid LANGUAGE sql STABLE AS
  $$ SELECT nullif(current_setting('app.workshop', true), '')::uuid $$;

CREATE TABLE workshop (
  id uuid PRIMARY KEY,
  name text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE person (
  id uuid PRIMARY KEY,
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  email text NOT NULL UNIQUE CHECK (email = lower(email)),
  name text NOT NULL,
  role text NOT NULL CHECK (role IN ('owner', 'mechanic', 'learner', 'viewer')),
  password_hash text NOT NULL,
  theme text NOT NULL DEFAULT 'paper' CHECK (theme IN ('paper', 'pit')),
  units text NOT NULL DEFAULT 'metric' CHECK (units IN ('metric', 'imperial')),
  created_at timestamptz NOT NULL DEFAULT now()
);

-- A case is its open document, kept as text so that it leaves as it came; the columns beside it are
-- read off it for the board.
CREATE TABLE case_file (
  id uuid PRIMARY KEY,
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  title text NOT NULL,
  vehicle text NOT NULL,
  document text NOT NULL,
  version integer NOT NULL DEFAULT 1,
  waits_for text NOT NULL,
  waits_words text NOT NULL,
  updated_at timestamptz NOT NULL DEFAULT now(),
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX case_file_board ON case_file (workshop_id, waits_for, updated_at DESC);

-- Every state a case was in: history, undo and audit in one.
CREATE TABLE case_step (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  case_id uuid NOT NULL REFERENCES case_file(id) ON DELETE CASCADE,
  version integer NOT NULL,
  document text NOT NULL,
  what text NOT NULL,
  person text NOT NULL,
  undone boolean NOT NULL DEFAULT false,
  at timestamptz NOT NULL DEFAULT now(),
  UNIQUE (case_id, version)
);

-- Files of a case as they came, in pieces.
CREATE TABLE case_blob (
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  case_id uuid NOT NULL REFERENCES case_file(id) ON DELETE CASCADE,
  name text NOT NULL,
  piece integer NOT NULL,
  data bytea NOT NULL,
  PRIMARY KEY (case_id, name, piece)
);

-- Recordings read in: columns of samples in compressed chunks.
CREATE TABLE recording (
  id uuid PRIMARY KEY,
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  case_id uuid NOT NULL REFERENCES case_file(id) ON DELETE CASCADE,
  name text NOT NULL,
  rate_hz double precision NOT NULL,
  start_s double precision NOT NULL,
  channels text NOT NULL,
  reference text NOT NULL,
  warnings text NOT NULL,
  refused boolean NOT NULL,
  UNIQUE (case_id, name)
);

CREATE TABLE recording_chunk (
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  recording_id uuid NOT NULL REFERENCES recording(id) ON DELETE CASCADE,
  channel integer NOT NULL,
  piece integer NOT NULL,
  data bytea NOT NULL,
  PRIMARY KEY (recording_id, channel, piece)
);

-- What the recordings of a case say, and the maps drawn from them.
CREATE TABLE case_analysis (
  case_id uuid PRIMARY KEY REFERENCES case_file(id) ON DELETE CASCADE,
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  result text NOT NULL,
  verification text NOT NULL,
  made_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE order_map (
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  case_id uuid NOT NULL REFERENCES case_file(id) ON DELETE CASCADE,
  recording text NOT NULL,
  channel text NOT NULL,
  meta text NOT NULL,
  ink bytea NOT NULL,
  PRIMARY KEY (case_id, recording, channel)
);

CREATE TABLE job (
  id uuid PRIMARY KEY,
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  case_id uuid NOT NULL REFERENCES case_file(id) ON DELETE CASCADE,
  state text NOT NULL DEFAULT 'queued' CHECK (state IN ('queued', 'running', 'done', 'failed', 'cancelled')),
  cancel boolean NOT NULL DEFAULT false,
  progress real NOT NULL DEFAULT 0,
  what text NOT NULL DEFAULT 'waiting for its turn',
  problem text,
  attempts integer NOT NULL DEFAULT 0,
  heartbeat timestamptz,
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX job_waiting ON job (created_at) WHERE state IN ('queued', 'running');

DO $$
DECLARE t text;
BEGIN
  FOREACH t IN ARRAY ARRAY['person','case_file','case_step','case_blob','recording','recording_chunk','case_analysis','order_map','job'] LOOP
    EXECUTE format('ALTER TABLE %I ENABLE ROW LEVEL SECURITY', t);
    EXECUTE format('ALTER TABLE %I FORCE ROW LEVEL SECURITY', t);
    EXECUTE format('CREATE POLICY own_workshop ON %I USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop())', t);
    EXECUTE format('GRANT SELECT, INSERT, UPDATE, DELETE ON %I TO baricord_app', t);
  END LOOP;
END $$;
ALTER TABLE workshop ENABLE ROW LEVEL SECURITY;
ALTER TABLE workshop FORCE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON workshop USING (id = current_workshop()) WITH CHECK (id = current_workshop());
GRANT SELECT, INSERT, UPDATE ON workshop TO baricord_app;
GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO baricord_app;

-- The two questions that must be asked before a workshop is known, each answering one row.
CREATE FUNCTION person_to_sign_in(wanted text) RETURNS SETOF person
  LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public AS
  $$ SELECT * FROM person WHERE email = lower(wanted) $$;
CREATE FUNCTION person_of_session(wanted uuid) RETURNS SETOF person
  LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public AS
  $$ SELECT * FROM person WHERE id = wanted $$;

-- Takes the next job that waits, or whose worker has not been heard of for a while.
CREATE FUNCTION claim_job() RETURNS TABLE (job_id uuid, job_workshop uuid, job_case uuid)
  LANGUAGE sql VOLATILE SECURITY DEFINER SET search_path = public AS
  $$ UPDATE job SET state = 'running', attempts = attempts + 1, heartbeat = now(), what = 'starting'
     WHERE id = (SELECT id FROM job
                 WHERE (state = 'queued' OR (state = 'running' AND heartbeat < now() - interval '20 seconds')) AND attempts < 4
                 ORDER BY created_at FOR UPDATE SKIP LOCKED LIMIT 1)
     RETURNING id, workshop_id, case_id $$;
CREATE FUNCTION has_workshop() RETURNS boolean
  LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public AS
  $$ SELECT EXISTS (SELECT 1 FROM workshop) $$;
REVOKE ALL ON FUNCTION person_to_sign_in, person_of_session, claim_job, has_workshop FROM PUBLIC;
GRANT EXECUTE ON FUNCTION person_to_sign_in, person_of_session, claim_job, has_workshop TO baricord_app;
