-- The switch as one step over several places, the way back, and what was seen at the end.

-- +goose Up

-- Whose tags are being pointed, or are pointed in some places only: COMPONENT ENVIRONMENT. One work at a time.
ALTER TABLE works ADD COLUMN switches text;
CREATE UNIQUE INDEX works_one_switch ON works (switches) WHERE switches IS NOT NULL;
UPDATE works w SET switches = p.component || ' ' || p.environment FROM promotions p
  WHERE p.work_id = w.id AND NOT w.ended AND w.state = 'switching';

ALTER TABLE promotions
  ADD COLUMN roll_back   boolean NOT NULL DEFAULT false,
  ADD COLUMN undoes      jsonb NOT NULL DEFAULT '[]', -- the digests that a roll back took from where they stood
  ADD COLUMN stands      jsonb NOT NULL DEFAULT '[]', -- what every tag was seen to mean in the end, place by place
  ADD COLUMN reviewed_by uuid REFERENCES actors,      -- who looked at it afterwards, where that is asked for
  ADD COLUMN reviewed_at timestamptz,
  ADD COLUMN review      text NOT NULL DEFAULT '';
CREATE INDEX promotions_roll_backs ON promotions (component, environment, number DESC) WHERE roll_back;
CREATE INDEX promotions_to_review ON promotions (number DESC)
  WHERE reviewed_at IS NULL AND (plan->>'emergency' = 'true' OR plan->>'skips' = 'true');

-- A change that restores what a switch had changed.
ALTER TABLE tag_changes ADD COLUMN back boolean NOT NULL DEFAULT false;

-- What happened to a promotion, from its asking to its end.
CREATE INDEX trail_by_work ON trail_entries (work_id, at DESC) WHERE work_id IS NOT NULL;

-- Whoever could do all can do this.
INSERT INTO grants (actor_id, permission) SELECT actor_id, 'roll-back' FROM grants WHERE permission = 'keep';
