// A decision: words for the trail, and two buttons. The enter key decides nothing; a button without words asks for them.
import { useState } from 'react';
import { useMutation } from '@tanstack/react-query';
import { queries } from '../api/client';

export function Decision({
  id,
  say,
  stale,
}: {
  id: string;
  say: (agreed: boolean, remark: string) => Promise<unknown>;
  stale: string[]; // the questions whose answers it changes
}) {
  const [remark, write] = useState('');
  const [missing, miss] = useState(false);
  const said = useMutation({
    mutationFn: (agreed: boolean) => say(agreed, remark),
    onSuccess: () => {
      write('');
      for (const key of stale) void queries.invalidateQueries({ queryKey: [key] });
    },
  });
  const decide = (agreed: boolean) => {
    if (remark.trim() === '') {
      miss(true);
      document.getElementById(id)?.focus();
    } else {
      said.mutate(agreed);
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
        placeholder="say why (goes on the trail)"
        value={remark}
        maxLength={2000}
        aria-invalid={wordless}
        onChange={(e) => write(e.target.value)}
      />
      <button type="button" className="btn go" disabled={said.isPending} onClick={() => decide(true)}>
        Approve
      </button>
      <button type="button" className="btn stop" disabled={said.isPending} onClick={() => decide(false)}>
        Decline
      </button>
      {(wordless || said.isError) && (
        <p className="note refused" role="alert">
          {wordless ? 'Say why first: it goes on the trail.' : said.error?.message}
        </p>
      )}
    </form>
  );
}
