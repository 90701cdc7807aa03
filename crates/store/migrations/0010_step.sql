-- What a case does next was weighed with this knowledge of this program; another one weighs it again when the board is shown.
ALTER TABLE case_file ADD COLUMN weighed_by text NOT NULL DEFAULT '';
