-- What Dovrak keeps. Times are the database's own; ids are UUIDv7; what people speak of has a number besides.

-- +goose Up

-- The one row that says to which sealing key this database belongs.
CREATE TABLE instance (
  one             boolean PRIMARY KEY DEFAULT true CHECK (one),
  key_fingerprint bytea NOT NULL,
  created_at      timestamptz NOT NULL DEFAULT now()
);

-- Each running process. It holds the advisory lock (8620, lock_key) on a connection of its own for as long as it
-- lives, so that its death is known at once; leases bound the rest.
CREATE TABLE processes (
  id         uuid PRIMARY KEY,
  lock_key   integer GENERATED ALWAYS AS IDENTITY,
  started_at timestamptz NOT NULL DEFAULT now()
);

-- Who acts, what they may, and by which secrets they are known.
CREATE TABLE actors (
  id         uuid PRIMARY KEY,
  kind       text NOT NULL CHECK (kind IN ('person', 'pipeline', 'service')),
  name       text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  UNIQUE (name)
);
CREATE TABLE grants (
  actor_id   uuid NOT NULL REFERENCES actors,
  permission text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (actor_id, permission)
);
CREATE TABLE tokens (
  id         uuid PRIMARY KEY,
  number     bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
  actor_id   uuid NOT NULL REFERENCES actors,
  hash       bytea NOT NULL UNIQUE,
  session    boolean NOT NULL DEFAULT false,
  created_at timestamptz NOT NULL DEFAULT now(),
  expires_at timestamptz NOT NULL,
  revoked_at timestamptz
);

-- Registries, with their credential sealed under the key file.
CREATE TABLE registries (
  id                  uuid PRIMARY KEY,
  name                text NOT NULL UNIQUE,
  address             text NOT NULL,
  ca_pem              text NOT NULL DEFAULT '',
  credential_name     text NOT NULL DEFAULT '',
  credential_sealed   bytea,
  requests_per_second double precision NOT NULL CHECK (requests_per_second > 0),
  transfers_at_once   integer NOT NULL CHECK (transfers_at_once > 0),
  created_at          timestamptz NOT NULL DEFAULT now(),
  updated_at          timestamptz NOT NULL DEFAULT now()
);

-- Each process that uses a registry leases a share of its limits; together the shares are never more than 1.
CREATE TABLE budget_shares (
  registry_id uuid NOT NULL REFERENCES registries,
  process_id  uuid NOT NULL,
  share       double precision NOT NULL CHECK (share BETWEEN 0 AND 1),
  until       timestamptz NOT NULL,
  PRIMARY KEY (registry_id, process_id)
);

CREATE TABLE charters (
  version    bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  document   text NOT NULL,
  adopted_by uuid NOT NULL REFERENCES actors,
  adopted_at timestamptz NOT NULL DEFAULT now()
);

-- Manifests and configs, once each, by digest; and which repository was seen to hold what.
CREATE TABLE contents (
  digest     text PRIMARY KEY,
  media_type text NOT NULL,
  bytes      bytea NOT NULL,
  kept_at    timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE holdings (
  registry_id uuid NOT NULL REFERENCES registries,
  repository  text NOT NULL,
  digest      text NOT NULL,
  seen_at     timestamptz NOT NULL,
  whole_at    timestamptz, -- when all below it was last verified to be there too
  PRIMARY KEY (registry_id, repository, digest)
);

-- What a tag was last seen to mean. No digest: it was seen to mean nothing.
CREATE TABLE sightings (
  registry_id uuid NOT NULL REFERENCES registries,
  repository  text NOT NULL,
  tag         text NOT NULL,
  digest      text,
  seen_at     timestamptz NOT NULL,
  PRIMARY KEY (registry_id, repository, tag)
);

-- Work: a copy or a promotion. Who works on it holds a lease, and every write of theirs carries the fence.
CREATE TABLE works (
  id           uuid PRIMARY KEY,
  kind         text NOT NULL CHECK (kind IN ('copy', 'promotion')),
  state        text NOT NULL,
  ended        boolean NOT NULL DEFAULT false,
  requested_by uuid NOT NULL REFERENCES actors,
  because      text NOT NULL DEFAULT '',
  progress     jsonb NOT NULL DEFAULT '[]',
  problem      jsonb,
  asked_at     timestamptz NOT NULL DEFAULT now(),
  began_at     timestamptz,
  ended_at     timestamptz,
  owner        uuid,
  fence        bigint NOT NULL DEFAULT 0,
  lease_until  timestamptz
);
CREATE INDEX works_open ON works (lease_until) WHERE NOT ended;
CREATE TABLE copies (
  work_id        uuid PRIMARY KEY REFERENCES works,
  number         bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
  source_id      uuid NOT NULL REFERENCES registries,
  source         text NOT NULL,
  destination_id uuid NOT NULL REFERENCES registries,
  destination    text NOT NULL,
  digest         text NOT NULL,
  verify         boolean NOT NULL DEFAULT false,
  plan           jsonb
);
CREATE TABLE promotions (
  work_id     uuid PRIMARY KEY REFERENCES works,
  number      bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
  component   text NOT NULL,
  environment text NOT NULL,
  digest      text NOT NULL,
  version     text NOT NULL DEFAULT '',
  plan        jsonb NOT NULL
);
CREATE INDEX promotions_by_home ON promotions (component, environment, number DESC);

-- One writer a tag at a time. A change is written down before the registry is asked, and its outcome after.
CREATE TABLE tag_leases (
  registry_id uuid NOT NULL REFERENCES registries,
  repository  text NOT NULL,
  tag         text NOT NULL,
  owner       uuid NOT NULL,
  fence       bigint NOT NULL DEFAULT 1,
  until       timestamptz NOT NULL,
  PRIMARY KEY (registry_id, repository, tag)
);
CREATE TABLE tag_changes (
  id             uuid PRIMARY KEY,
  number         bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
  registry_id    uuid NOT NULL REFERENCES registries,
  repository     text NOT NULL,
  tag            text NOT NULL,
  from_digest    text,
  to_digest      text NOT NULL,
  actor_id       uuid NOT NULL REFERENCES actors,
  because        text NOT NULL,
  work_id        uuid REFERENCES works,
  fence          bigint NOT NULL,
  intended_at    timestamptz NOT NULL DEFAULT now(),
  seen_before_at timestamptz NOT NULL, -- the registry was asked right before,
  seen_after_at  timestamptz,          -- and right after: between the two another's change could not have been seen
  outcome        text CHECK (outcome IN ('done', 'not done', 'overtaken', 'unknown')),
  settled_at     timestamptz
);
CREATE UNIQUE INDEX tag_changes_one_intent ON tag_changes (registry_id, repository, tag) WHERE outcome IS NULL OR outcome = 'unknown';
CREATE INDEX tag_changes_by_tag ON tag_changes (registry_id, repository, tag, intended_at);
CREATE INDEX tag_changes_by_work ON tag_changes (work_id);

-- The trail. An entry is written in the transaction of the act, without a number; the sequencer numbers what is
-- committed and adds the hashes of the tree. subject, component and at repeat what the bytes say, to find them by.
CREATE TABLE trail_entries (
  id        uuid PRIMARY KEY,
  seq       bigint UNIQUE,
  bytes     bytea NOT NULL,
  act       text NOT NULL,
  subject   text NOT NULL DEFAULT '',
  component text NOT NULL DEFAULT '',
  work_id   uuid,
  at        timestamptz NOT NULL
);
CREATE INDEX trail_unnumbered ON trail_entries (at, id) WHERE seq IS NULL;
CREATE INDEX trail_by_subject ON trail_entries (subject, at DESC);
CREATE INDEX trail_by_component ON trail_entries (component, at DESC);
CREATE INDEX trail_by_time ON trail_entries (at DESC, id DESC);
CREATE TABLE trail_openings (
  entry_id uuid NOT NULL REFERENCES trail_entries,
  field    text NOT NULL,
  salt     bytea NOT NULL,
  value    text NOT NULL,
  PRIMARY KEY (entry_id, field)
);
CREATE TABLE trail_hashes (
  position bigint PRIMARY KEY,
  hash     bytea NOT NULL CHECK (length(hash) = 32)
);

-- +goose StatementBegin
CREATE FUNCTION trail_guard() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_TABLE_NAME = 'trail_entries' AND TG_OP = 'UPDATE' THEN -- the sequencer, once
    IF OLD.seq IS NULL AND NEW.seq IS NOT NULL
       AND ROW(NEW.id, NEW.bytes, NEW.act, NEW.subject, NEW.component, NEW.work_id, NEW.at)
           IS NOT DISTINCT FROM ROW(OLD.id, OLD.bytes, OLD.act, OLD.subject, OLD.component, OLD.work_id, OLD.at) THEN
      RETURN NEW;
    END IF;
  END IF;
  RAISE EXCEPTION 'the trail is append-only: % on % is refused', TG_OP, TG_TABLE_NAME USING ERRCODE = 'object_not_in_prerequisite_state';
END $$;
-- +goose StatementEnd
CREATE TRIGGER trail_entries_guard BEFORE UPDATE OR DELETE ON trail_entries FOR EACH ROW EXECUTE FUNCTION trail_guard();
CREATE TRIGGER trail_entries_keep BEFORE TRUNCATE ON trail_entries FOR EACH STATEMENT EXECUTE FUNCTION trail_guard();
CREATE TRIGGER trail_hashes_guard BEFORE UPDATE OR DELETE ON trail_hashes FOR EACH ROW EXECUTE FUNCTION trail_guard();
CREATE TRIGGER trail_hashes_keep BEFORE TRUNCATE ON trail_hashes FOR EACH STATEMENT EXECUTE FUNCTION trail_guard();

-- Events for those who watch. xact orders them by what a reader can have missed: a reader takes those of
-- transactions older than any still open, so that a late commit is never skipped.
CREATE TABLE outbox (
  xact    xid8 NOT NULL DEFAULT pg_current_xact_id(),
  id      bigint GENERATED ALWAYS AS IDENTITY,
  at      timestamptz NOT NULL DEFAULT now(),
  topic   text NOT NULL,
  payload jsonb NOT NULL,
  PRIMARY KEY (xact, id)
);

-- The answer to a request that carried an Idempotency-Key, and the hash of that request.
CREATE TABLE idempotency_keys (
  actor_id     uuid NOT NULL REFERENCES actors,
  key          text NOT NULL,
  request_hash bytea NOT NULL,
  location     text NOT NULL,
  work_id      uuid NOT NULL,
  created_at   timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (actor_id, key)
);
