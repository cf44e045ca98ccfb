// A digest as people meet it: its ridge over or beside its twelve digits, whole on hover, copied by a click.
import { useState } from 'react';
import { Ridge, short } from './ridge';

function useCopied(digest: string): [string, () => void] {
  const [said, say] = useState('');
  const copy = () => {
    navigator.clipboard.writeText(digest).then(
      () => say('copied'),
      () => say('not copied'),
    );
  };
  return [said, copy];
}

/** Plate stands in a table's cell: every summit above its digit. */
export function Plate({ digest }: { digest: string }) {
  const [said, copy] = useCopied(digest);
  return (
    <button type="button" className="plate" title={`${digest}\nclick to copy`} onClick={copy}>
      <Ridge digest={digest} width={84} height={27} />
      <span className="sr">copy </span>
      <code aria-live="polite">{said || short(digest)}</code>
    </button>
  );
}

/** Inline stands in a line of text. */
export function Inline({ digest }: { digest: string }) {
  const [said, copy] = useCopied(digest);
  return (
    <button type="button" className="inline-digest" title={`${digest}\nclick to copy`} onClick={copy}>
      <Ridge digest={digest} />
      <span className="sr">copy </span>
      <code aria-live="polite">{said || short(digest)}</code>
    </button>
  );
}
