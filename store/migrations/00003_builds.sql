-- Builds that pipelines report, what was vouched for, and who may report for which component.

-- +goose Up

-- The permission report is for a component; without a scope a permission holds for everything.
ALTER TABLE grants ADD COLUMN scope text NOT NULL DEFAULT '';
ALTER TABLE grants DROP CONSTRAINT grants_pkey;
ALTER TABLE grants ADD PRIMARY KEY (actor_id, permission, scope);
INSERT INTO grants (actor_id, permission) SELECT actor_id, 'report' FROM grants WHERE permission = 'keep';

-- Sign-ins by an issuer's tokens, each of which counts once.
CREATE TABLE spent_tokens (
  hash       bytea PRIMARY KEY,
  expires_at timestamptz NOT NULL
);

-- Several tags that were pointed as one change.
ALTER TABLE tag_changes ADD COLUMN together uuid;

-- A build is a work from its report on: first its parts arrive, then it is closed. People know it by component and run,
-- the pipeline's own number; number is the order in which builds were reported.
ALTER TABLE works DROP CONSTRAINT works_kind_check;
ALTER TABLE works ADD CONSTRAINT works_kind_check CHECK (kind IN ('copy', 'promotion', 'take-in', 'build', 'join'));
CREATE TABLE builds (
  work_id      uuid PRIMARY KEY REFERENCES works,
  number       bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
  component    text NOT NULL,
  run          bigint NOT NULL CHECK (run > 0),
  revision     text NOT NULL,                    -- the commit
  branch       text NOT NULL,
  version      text NOT NULL DEFAULT '',         -- promised: the promise is open until an image keeps it
  link         text NOT NULL DEFAULT '',
  commit_link  text NOT NULL DEFAULT '',
  source       text NOT NULL DEFAULT '',
  triggered_by text NOT NULL DEFAULT '',
  base         text NOT NULL DEFAULT '',
  base_digest  text NOT NULL DEFAULT '',
  changes      jsonb NOT NULL DEFAULT '[]',      -- commits since the build before
  environment  text NOT NULL,
  given        text NOT NULL DEFAULT '',         -- an index that the pipeline pushed itself
  digest       text NOT NULL DEFAULT '',         -- the image that came of it, read back from the registry
  tries        integer NOT NULL DEFAULT 0,       -- that failed
  warnings     jsonb NOT NULL DEFAULT '[]',
  due_at       timestamptz NOT NULL,             -- by then all parts are to be in
  UNIQUE (component, run)
);
CREATE INDEX builds_by_component ON builds (component, number DESC);
CREATE INDEX builds_by_digest ON builds (digest) WHERE digest <> '';
CREATE INDEX builds_by_revision ON builds (revision text_pattern_ops);
CREATE TABLE build_parts (
  work_id     uuid NOT NULL REFERENCES builds,
  platform    text NOT NULL,
  repository  text NOT NULL,                     -- REGISTRY/REPOSITORY where the runner pushed it
  digest      text NOT NULL,
  reported_by uuid NOT NULL REFERENCES actors,
  reported_at timestamptz NOT NULL DEFAULT now(),
  emulated    boolean,                           -- built on another architecture; null: not said
  seconds     double precision,                  -- that it took; null: not said
  base        text NOT NULL DEFAULT '',          -- by its own annotations
  base_digest text NOT NULL DEFAULT '',
  size        bigint NOT NULL DEFAULT 0,         -- of manifest, config and layers, in bytes
  warnings    jsonb NOT NULL DEFAULT '[]',
  PRIMARY KEY (work_id, platform)
);
-- The tags a build gets by rule. Fixed ones are kept for it from its report on.
CREATE TABLE build_tags (
  work_id    uuid NOT NULL REFERENCES builds,
  repository text NOT NULL,                      -- REGISTRY/REPOSITORY
  tag        text NOT NULL,
  kind       text NOT NULL,
  rule       text NOT NULL,
  position   integer NOT NULL,                   -- in the order in which they are pointed
  outcome    text NOT NULL DEFAULT '' CHECK (outcome IN ('', 'points', 'stays')),
  why        text NOT NULL DEFAULT '',           -- it stays
  change     bigint,                             -- the tag change
  PRIMARY KEY (work_id, repository, tag)
);
CREATE INDEX build_tags_by_tag ON build_tags (repository, tag);

-- What was vouched for: of a digest, or of one platform's image below it.
CREATE TABLE vouches (
  number     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  digest     text NOT NULL,
  repository text NOT NULL,                      -- REGISTRY/REPOSITORY where it was seen
  platform   text NOT NULL DEFAULT '',
  claim      text NOT NULL,
  verdict    text NOT NULL CHECK (verdict IN ('passed', 'failed', 'noted')),
  link       text NOT NULL DEFAULT '',
  note       text NOT NULL DEFAULT '',
  report     bytea,
  report_name text NOT NULL DEFAULT '',
  actor_id   uuid NOT NULL REFERENCES actors,
  at         timestamptz NOT NULL DEFAULT now(),
  expires_at timestamptz
);
CREATE INDEX vouches_by_digest ON vouches (digest, number DESC);

-- Joins by hand: parts made into an index under a tag.
CREATE TABLE joins (
  work_id     uuid PRIMARY KEY REFERENCES works,
  number      bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
  registry_id uuid NOT NULL REFERENCES registries,
  repository  text NOT NULL,
  tag         text NOT NULL,
  parts       jsonb NOT NULL,
  digest      text NOT NULL DEFAULT '',
  warnings    jsonb NOT NULL DEFAULT '[]'
);
