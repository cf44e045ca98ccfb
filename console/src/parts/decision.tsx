// A decision: words for the trail, and a button for each way. The enter key decides nothing; a button without words asks for them.
import { useState } from 'react';
import { useMutation } from '@tanstack/react-query';
import { queries } from '../api/client';

/** Way is one way to decide: what its button says, and what it does with the words. */
export type Way = { name: string; tone: 'go' | 'stop'; say: (remark: string) => Promise<unknown> };

/** yesOrNo are the ways of who may agree or decline. */
export const yesOrNo = (say: (agreed: boolean, remark: string) => Promise<unknown>): Way[] => [
  { name: 'Approve', tone: 'go', say: (remark) => say(true, remark) },
  { name: 'Decline', tone: 'stop', say: (remark) => say(false, remark) },
];

export function Decision({
  id,
  ways,
  stale,
  ask = 'say why (goes on the trail)',
  busy = false,
}: {
  id: string;
  ways: Way[];
  stale: string[]; // the questions whose answers it changes
  ask?: string;
  busy?: boolean; // what is decided on is just being asked for anew
}) {
  const [remark, write] = useState('');
  const [missing, miss] = useState(false);
  const said = useMutation({
    mutationFn: (way: Way) => way.say(remark),
    onSuccess: () => {
      write('');
      for (const key of stale) void queries.invalidateQueries({ queryKey: [key] });
    },
  });
  const decide = (way: Way) => {
    if (remark.trim() === '') {
      miss(true);
      document.getElementById(id)?.focus();
    } else {
      said.mutate(way);
    }
  };
  const wordless = missing && remark === '';
  return (
    <form className="say" onSubmit={(e) => e.preventDefault()}>
      <label className="sr" htmlFor={id}>
        Why, for the trail
      </label>
      <input
        id={id}
        className="field"
        placeholder={ask}
        value={remark}
        maxLength={2000}
        aria-invalid={wordless}
        onChange={(e) => write(e.target.value)}
      />
      {ways.map((way) => (
        <button
          key={way.name}
          type="button"
          className={`btn ${way.tone}`}
          disabled={said.isPending || busy}
          onClick={() => decide(way)}
        >
          {way.name}
        </button>
      ))}
      {(wordless || said.isError) && (
        <p className="note refused" role="alert">
          {wordless ? 'Say why first: it goes on the trail.' : said.error?.message}
        </p>
      )}
    </form>
  );
}
