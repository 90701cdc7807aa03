-- One life for each vehicle over many cases. A vehicle is known in its workshop by its name; what was
-- changed between cases stands with it.

CREATE TABLE vehicle (
  id uuid PRIMARY KEY,
  workshop_id uuid NOT NULL REFERENCES workshop(id) ON DELETE CASCADE,
  name text NOT NULL CHECK (name <> ''),
  changes text NOT NULL DEFAULT '[]',
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX vehicle_name ON vehicle (workshop_id, lower(name));
ALTER TABLE vehicle ENABLE ROW LEVEL SECURITY;
ALTER TABLE vehicle FORCE ROW LEVEL SECURITY;
CREATE POLICY own_workshop ON vehicle USING (workshop_id = current_workshop()) WITH CHECK (workshop_id = current_workshop());
GRANT SELECT, INSERT, UPDATE, DELETE ON vehicle TO baricord_app;

ALTER TABLE case_file ADD COLUMN vehicle_id uuid REFERENCES vehicle(id) ON DELETE SET NULL;
CREATE INDEX case_file_vehicle ON case_file (vehicle_id);

-- Cases that were there before. The owner of the tables is held by the policies too: each workshop in its turn.
DO $$
DECLARE w uuid;
BEGIN
  ALTER TABLE workshop NO FORCE ROW LEVEL SECURITY;
  FOR w IN SELECT id FROM workshop LOOP
    PERFORM set_config('app.workshop', w::text, true);
    INSERT INTO vehicle (id, workshop_id, name)
      SELECT gen_random_uuid(), w, min(trim(vehicle)) FROM case_file WHERE trim(vehicle) <> '' GROUP BY lower(trim(vehicle));
    UPDATE case_file c SET vehicle_id = v.id FROM vehicle v WHERE lower(v.name) = lower(trim(c.vehicle));
  END LOOP;
  PERFORM set_config('app.workshop', '', true);
  ALTER TABLE workshop FORCE ROW LEVEL SECURITY;
END $$;
