-- What a case is found by is written anew with each edit that says something: the faster compression, where this server has it.
DO $$ BEGIN
  ALTER TABLE case_search ALTER COLUMN said SET COMPRESSION lz4, ALTER COLUMN search SET COMPRESSION lz4;
EXCEPTION WHEN feature_not_supported THEN NULL;
END $$;
