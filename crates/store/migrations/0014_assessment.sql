-- What a case comes to is weighed once for each of its states and each state of the knowledge, and kept.

-- Another one each time the document changes, or what its recordings say.
ALTER TABLE case_file ADD COLUMN stamp uuid NOT NULL DEFAULT gen_random_uuid();
CREATE FUNCTION stamp_case() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  NEW.stamp := gen_random_uuid();
  RETURN NEW;
END $$;
CREATE TRIGGER stamped BEFORE UPDATE OF document ON case_file FOR EACH ROW EXECUTE FUNCTION stamp_case();
CREATE FUNCTION stamp_case_of_analysis() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  UPDATE case_file SET stamp = gen_random_uuid(), weighed_by = '' WHERE id = coalesce(NEW.case_id, OLD.case_id);
  RETURN NULL;
END $$;
CREATE TRIGGER stamped AFTER INSERT OR UPDATE OR DELETE ON case_analysis FOR EACH ROW EXECUTE FUNCTION stamp_case_of_analysis();

CREATE TABLE case_assessment (
  workshop_id uuid NOT NULL,
  case_id uuid NOT NULL,
  stamp uuid NOT NULL,
  knowledge text NOT NULL,
  -- The version of the case that was weighed.
  version integer NOT NULL,
  -- JSON, deflated.
  assessment bytea NOT NULL,
  made_at timestamptz NOT NULL DEFAULT now(),
  -- The decision that rested on it: it is kept for good. The others give way to the latest.
  kept_for uuid,
  PRIMARY KEY (case_id, stamp, knowledge),
  FOREIGN KEY (workshop_id, case_id) REFERENCES case_file (workshop_id, id) ON DELETE CASCADE
);
ALTER TABLE case_assessment ENABLE ROW LEVEL SECURITY;
ALTER TABLE case_assessment FORCE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON case_assessment USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
GRANT SELECT, INSERT, UPDATE, DELETE ON case_assessment TO baricord_app;
