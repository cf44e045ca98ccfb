-- What of an image a copy carries, and how fast.

-- +goose Up

ALTER TABLE copies
  ADD COLUMN referrers text NOT NULL DEFAULT 'none',  -- of what refers to it: all, none, or what is of one type
  ADD COLUMN source_digest text NOT NULL DEFAULT '',  -- where only some platforms are copied: the image they are taken from
  ADD COLUMN platforms jsonb NOT NULL DEFAULT '[]';   -- those; none is the whole

-- Of layers, from and to a registry, over all processes; 0 is no limit.
ALTER TABLE registries ADD COLUMN bytes_per_second bigint NOT NULL DEFAULT 0 CHECK (bytes_per_second >= 0);
