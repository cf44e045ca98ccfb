-- Copies to several places, uploads that outlive their process, and what a work asked of registries.

-- +goose Up

CREATE TABLE copy_places (
  work_id     uuid NOT NULL REFERENCES copies (work_id),
  place       int NOT NULL,             -- in the order in which they were named
  registry_id uuid NOT NULL REFERENCES registries,
  repository  text NOT NULL,
  tag         text NOT NULL DEFAULT '', -- pointed when the image is whole there; empty is none
  plan        jsonb,                    -- as it was first made
  PRIMARY KEY (work_id, place)
);
CREATE INDEX copy_places_at ON copy_places (registry_id, repository);
INSERT INTO copy_places (work_id, place, registry_id, repository, plan)
  SELECT work_id, 0, destination_id, destination, plan FROM copies;
ALTER TABLE copies DROP COLUMN destination_id, DROP COLUMN destination, DROP COLUMN plan;

ALTER TABLE works ADD COLUMN requests bigint NOT NULL DEFAULT 0; -- to registries, by all processes that were at it

-- A blob on its way into a repository. Whoever has the row may send it: a work, while it is under its lease of that fence.
CREATE TABLE uploads (
  registry_id uuid NOT NULL REFERENCES registries,
  repository  text NOT NULL,
  digest      text NOT NULL,
  work_id     uuid REFERENCES works,    -- NULL: nobody is at it
  fence       bigint NOT NULL DEFAULT 0,
  location    text NOT NULL DEFAULT '', -- where the registry said that the upload goes on
  marks       jsonb NOT NULL DEFAULT '[]', -- places of the source, with the hash's state there
  kept_at     timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (registry_id, repository, digest)
);
