-- Connections known by what they permit, and images known at a glance.

-- +goose Up

ALTER TABLE registries
  ADD COLUMN client_cert_pem   text NOT NULL DEFAULT '',
  ADD COLUMN client_key_sealed bytea,
  ADD COLUMN plain             boolean NOT NULL DEFAULT false, -- plain HTTP, said explicitly
  ADD COLUMN secret_source     text NOT NULL DEFAULT '',       -- by name, from the server's own settings
  ADD COLUMN sign_in_hosts     jsonb NOT NULL DEFAULT '[]',    -- other hosts at which this registry signs in
  ADD COLUMN labels            jsonb NOT NULL DEFAULT '{}',
  ADD COLUMN unverified_owner  text NOT NULL DEFAULT '',       -- certificates are not checked: who answers for it,
  ADD COLUMN unverified_until  timestamptz,                    -- and until when
  ADD COLUMN dropped_at        timestamptz,
  ADD CHECK ((unverified_owner = '') = (unverified_until IS NULL));
-- A dropped registry keeps its history; its name is free again.
ALTER TABLE registries DROP CONSTRAINT registries_name_key;
CREATE UNIQUE INDEX registries_by_name ON registries (name) WHERE dropped_at IS NULL;

-- What a registry was seen to permit, in one repository or, with none, at all. steps is the whole check.
CREATE TABLE registry_checks (
  id          uuid PRIMARY KEY,
  registry_id uuid NOT NULL REFERENCES registries,
  repository  text NOT NULL DEFAULT '',
  asked_by    uuid NOT NULL REFERENCES actors,
  at          timestamptz NOT NULL DEFAULT now(),
  steps       jsonb NOT NULL
);
CREATE INDEX registry_checks_latest ON registry_checks (registry_id, repository, at DESC);

-- Repositories: what is known of them, and which were declared by hand as ones that Dovrak may write to. Those that a
-- charter names are declared by it.
CREATE TABLE repositories (
  registry_id uuid NOT NULL REFERENCES registries,
  repository  text NOT NULL,
  owner       text NOT NULL DEFAULT '',   -- who answers for it
  tags_fixed  boolean,                    -- whether its registry lets a tag be overwritten; null: not known
  public      boolean,                    -- whether anyone may pull; null: not known
  there       boolean,                    -- null: never asked
  seen_at     timestamptz,
  declared_by uuid REFERENCES actors,     -- null: not declared by hand
  declared_at timestamptz,
  PRIMARY KEY (registry_id, repository)
);

-- What a tag meant before it was seen to mean nothing, and what a repository held before it was seen to hold it no more.
-- since is when this meaning was first seen; order_key makes tags sort as versions.
ALTER TABLE sightings
  ADD COLUMN was_digest  text,
  ADD COLUMN was_seen_at timestamptz,
  ADD COLUMN since       timestamptz,
  ADD COLUMN order_key   text COLLATE "C";
ALTER TABLE holdings ADD COLUMN gone_at timestamptz;

-- What is attached to a digest in a repository, as it was last listed there.
CREATE TABLE referrers (
  registry_id uuid NOT NULL REFERENCES registries,
  repository  text NOT NULL,
  digest      text NOT NULL,
  descriptors jsonb NOT NULL,
  seen_at     timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (registry_id, repository, digest)
);

-- When all tags of a repository were last looked at, from begin to end.
CREATE TABLE surveys (
  registry_id uuid NOT NULL REFERENCES registries,
  repository  text NOT NULL,
  began_at    timestamptz NOT NULL,
  ended_at    timestamptz NOT NULL,
  tags        bigint NOT NULL,
  PRIMARY KEY (registry_id, repository)
);

-- Gaps that are meant: tags of a pattern need not mean the same in a place, or in any.
CREATE TABLE tag_exceptions (
  number     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  component  text NOT NULL,
  pattern    text NOT NULL,
  place      text NOT NULL DEFAULT '',
  because    text NOT NULL,
  made_by    uuid NOT NULL REFERENCES actors,
  made_at    timestamptz NOT NULL DEFAULT now(),
  ended_at   timestamptz
);

-- Work that takes in what a registry holds: repository by repository, so that it can be resumed. Nothing is changed by it.
ALTER TABLE works DROP CONSTRAINT works_kind_check;
ALTER TABLE works ADD CONSTRAINT works_kind_check CHECK (kind IN ('copy', 'promotion', 'take-in'));
CREATE TABLE take_ins (
  work_id     uuid PRIMARY KEY REFERENCES works,
  number      bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
  registry_id uuid NOT NULL REFERENCES registries,
  pattern     text NOT NULL DEFAULT '',
  report      jsonb
);
CREATE TABLE take_in_repositories (
  work_id    uuid NOT NULL REFERENCES works,
  repository text NOT NULL,
  tags       bigint NOT NULL DEFAULT 0,
  entries    bigint NOT NULL DEFAULT 0, -- first entries that were written on the trail
  problem    text NOT NULL DEFAULT '',
  done       boolean NOT NULL DEFAULT false,
  PRIMARY KEY (work_id, repository)
);

-- An image in a few words, worked out from its manifests and configs once: they never change.
CREATE TABLE summaries (
  digest     text PRIMARY KEY,
  kind       text NOT NULL,
  size       bigint NOT NULL,           -- of all there is below it, in bytes, each blob once
  platforms  jsonb NOT NULL,
  version    text NOT NULL DEFAULT '',
  revision   text NOT NULL DEFAULT '',
  created_at timestamptz,
  problem    text NOT NULL DEFAULT ''   -- why it cannot be read
);
CREATE INDEX summaries_by_revision ON summaries (revision text_pattern_ops) WHERE revision <> '';
CREATE INDEX holdings_by_digest ON holdings (digest text_pattern_ops);
CREATE INDEX sightings_by_digest ON sightings (digest text_pattern_ops);
CREATE INDEX sightings_by_tag ON sightings (tag);
CREATE INDEX sightings_by_image ON sightings (registry_id, repository, digest, order_key);
