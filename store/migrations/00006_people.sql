-- People: by which accounts they sign in, what they said of promotions, and whose tokens are whose.

-- +goose Up

ALTER TABLE actors
  ADD COLUMN email        text NOT NULL DEFAULT '', -- one person's, whatever account it was verified for
  ADD COLUMN withdrawn_at timestamptz;              -- since then nothing is permitted to them
CREATE UNIQUE INDEX actors_by_email ON actors (email) WHERE email <> '';

ALTER TABLE tokens
  ADD COLUMN own       boolean NOT NULL DEFAULT false, -- its bearer signed in by an account of their own
  ADD COLUMN issued_by uuid REFERENCES actors;         -- else: who issued it

-- An account is known by its issuer; those of Dovrak's own have none, and a password.
CREATE TABLE accounts (
  issuer        text NOT NULL,
  subject       text NOT NULL,                -- Dovrak's own: the name in lower case
  actor_id      uuid NOT NULL REFERENCES actors,
  claims        jsonb NOT NULL DEFAULT '[]',  -- groups, as the issuer said at the last sign-in
  password      text NOT NULL DEFAULT '',     -- argon2id with its salt and costs; empty: not set yet
  invitation    bytea,                        -- hash of the secret by which a password may be set, once
  invited_until timestamptz,
  tries         integer NOT NULL DEFAULT 0,   -- wrong passwords since the last right one
  blocked_until timestamptz,
  made_at       timestamptz NOT NULL DEFAULT now(),
  seen_at       timestamptz,
  PRIMARY KEY (issuer, subject)
);
CREATE INDEX accounts_of ON accounts (actor_id);

-- Sign-ins at an issuer that were begun in a browser. Each counts once, in that browser.
CREATE TABLE sign_ins (
  state      bytea PRIMARY KEY, -- hashes: what lies here lets nobody in
  browser    bytea NOT NULL,
  nonce      text NOT NULL,
  verifier   text NOT NULL,
  return_to  text NOT NULL,
  expires_at timestamptz NOT NULL
);

-- What people said of promotions. The last word of each counts, while the promotion is the one it was said of.
CREATE TABLE approvals (
  id       uuid PRIMARY KEY,
  work_id  uuid NOT NULL REFERENCES promotions (work_id),
  actor_id uuid NOT NULL REFERENCES actors,
  agreed   boolean NOT NULL,
  remark   text NOT NULL,
  bound    text NOT NULL, -- what they were shown: plan.Promotion.Binding
  at       timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX approvals_of ON approvals (work_id, at);

-- Something has come that a promotion may wait for; cleared when it begins to be judged, so that nothing is lost that comes meanwhile.
ALTER TABLE works ADD COLUMN woken boolean NOT NULL DEFAULT false;

-- The newest promotions of one component, or to one environment.
CREATE INDEX promotions_of ON promotions (component, number DESC);
CREATE INDEX promotions_to ON promotions (environment, number DESC);

-- Charters that wait for people to agree to them.
CREATE TABLE charter_proposals (
  number   bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  document text NOT NULL,
  base     bigint NOT NULL, -- the version in force when it was proposed: behind another it counts no more
  asked_by uuid NOT NULL REFERENCES actors,
  because  text NOT NULL,
  state    text NOT NULL CHECK (state IN ('waiting', 'adopted', 'declined', 'overtaken')),
  version  bigint REFERENCES charters, -- that it became
  asked_at timestamptz NOT NULL DEFAULT now(),
  ended_at timestamptz
);
CREATE TABLE charter_approvals (
  id       uuid PRIMARY KEY,
  proposal bigint NOT NULL REFERENCES charter_proposals,
  actor_id uuid NOT NULL REFERENCES actors,
  agreed   boolean NOT NULL,
  remark   text NOT NULL,
  at       timestamptz NOT NULL DEFAULT now()
);
