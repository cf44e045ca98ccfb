-- What of an image a copy carries.

-- +goose Up

ALTER TABLE copies
  ADD COLUMN referrers text NOT NULL DEFAULT 'none',  -- of what refers to it: all, none, or what is of one type
  ADD COLUMN source_digest text NOT NULL DEFAULT '',  -- where only some platforms are copied: the image they are taken from
  ADD COLUMN platforms jsonb NOT NULL DEFAULT '[]';   -- those; none is the whole
