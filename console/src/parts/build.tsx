// The state of a build, or of another work, in a word, with its mark.
import type { Schema } from '../api/client';
import { Mark, type MarkName } from './marks';

type Build = Schema['Build'];

const signs: Record<string, [MarkName, string]> = {
  verified: ['holds', ''],
  failed: ['refused', 'refused'],
  'given up': ['refused', 'quiet'],
  stopped: ['waits', 'waits'],
  waiting: ['waits', 'waits'],
  refused: ['refused', 'refused'],
  expired: ['refused', 'refused'],
  declined: ['refused', 'refused'],
  split: ['refused', 'refused'],
  'taken back': ['back', 'refused'],
  'going back': ['back', 'waits'],
  incomplete: ['waits', 'refused'],
  open: ['waits', 'waits'],
};

/** WorkState is the state of any work. */
export function WorkState({ state, word }: { state: string; word?: string | undefined }) {
  const [mark, tone] = signs[state] ?? (['moving', 'waits'] as const);
  return (
    <span className={`state ${tone}`}>
      <Mark name={mark} /> {word ?? state}
    </span>
  );
}

const words: Record<string, string> = { open: 'parts arrive', verified: 'tagged', asked: 'is closing' };

export const BuildState = ({ build }: { build: { state: string } }) => <WorkState state={build.state} word={words[build.state]} />;

/** Commit is a build's commit, a plain link where the pipeline gave one. */
export function Commit({ of, whole }: { of: Pick<Build, 'commit' | 'commitLink'>; whole?: boolean }) {
  const text = <code className="wrap-anywhere">{whole ? of.commit : of.commit.slice(0, 12)}</code>;
  if (!of.commitLink) return text;
  return (
    <a href={of.commitLink} rel="noreferrer">
      {text}
    </a>
  );
}

/** Awaited says for what a build waits. */
export function Awaited({ build }: { build: Build }) {
  if (build.missing.length === 0) return <span className="quiet">none yet</span>;
  return <span className="quiet">when {build.missing.length === 1 ? 'the last part is' : 'all parts are'} in</span>;
}
