-- The table of analyses has the name of what it holds: `job` is free for the work on a vehicle.
ALTER TABLE job RENAME TO analysis_task;
ALTER INDEX job_waiting RENAME TO analysis_task_waiting;

DROP FUNCTION claim_job();
-- Takes the next task that waits, or whose worker has not been heard of for a while. A task whose worker has
-- died four times is given up, and its drive with it.
CREATE FUNCTION claim_analysis_task()
  RETURNS TABLE (task_id uuid, task_workshop uuid, task_case uuid, task_drive uuid, task_lease uuid)
  LANGUAGE sql VOLATILE SECURITY DEFINER SET search_path = pg_catalog, public, pg_temp AS
  $$ WITH dead AS (
       UPDATE public.analysis_task SET state = 'failed', lease = NULL, problem = 'the program ended four times while at this: ' || what
       WHERE state = 'running' AND heartbeat < now() - interval '20 seconds' AND attempts >= 4 RETURNING drive_id),
     ended AS (
       UPDATE public.drive SET state = 'failed', problem = 'the program ended four times while driving'
       WHERE id IN (SELECT drive_id FROM dead) AND state NOT IN ('done', 'failed'))
     UPDATE public.analysis_task SET state = 'running', attempts = attempts + 1, heartbeat = now(), lease = gen_random_uuid(),
         what = CASE WHEN attempts = 0 THEN 'starting' ELSE what END
     WHERE id = (SELECT id FROM public.analysis_task
                 WHERE (state = 'queued' OR (state = 'running' AND heartbeat < now() - interval '20 seconds')) AND attempts < 4
                 ORDER BY created_at FOR UPDATE SKIP LOCKED LIMIT 1)
     RETURNING id, workshop_id, case_id, drive_id, lease $$;

GRANT CREATE ON SCHEMA public TO baricord_definer;
REVOKE ALL ON FUNCTION claim_analysis_task() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION claim_analysis_task() TO baricord_app;
ALTER FUNCTION claim_analysis_task() OWNER TO baricord_definer;
REVOKE CREATE ON SCHEMA public FROM baricord_definer;
