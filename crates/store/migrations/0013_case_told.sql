-- Whoever watches a case is told when something of it moves: the database tells, so that no write forgets to.
CREATE FUNCTION tell_case() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM pg_notify('baricord_case', NEW.case_id::text);
  RETURN NULL;
END $$;
CREATE FUNCTION tell_case_of_drive() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM pg_notify('baricord_case', case_id::text) FROM drive WHERE id = NEW.drive_id;
  RETURN NULL;
END $$;
CREATE TRIGGER told AFTER INSERT ON case_event FOR EACH ROW EXECUTE FUNCTION tell_case();
CREATE TRIGGER told AFTER INSERT OR UPDATE ON analysis_task FOR EACH ROW EXECUTE FUNCTION tell_case();
CREATE TRIGGER told AFTER INSERT OR UPDATE ON drive FOR EACH ROW EXECUTE FUNCTION tell_case();
CREATE TRIGGER told AFTER INSERT ON drive_piece FOR EACH ROW EXECUTE FUNCTION tell_case_of_drive();
