-- What a workshop has changed of the knowledge that ships: minutes, how common a fault is, prices, its certainty.
ALTER TABLE workshop ADD COLUMN house text NOT NULL DEFAULT '{}';
