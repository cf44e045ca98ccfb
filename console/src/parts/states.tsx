// Empty, loading, failed: each says what belongs there, and the one thing that fills it.
import type { ReactNode } from 'react';
import { Problem } from '../api/client';
import { Mark } from './marks';

export function Loading({ what }: { what: string }) {
  return (
    <p className="state quiet" role="status">
      Asking for {what} …
    </p>
  );
}

export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="state">
      <h2>{title}</h2>
      <p>{children}</p>
    </section>
  );
}

export function Failed({ error, retry }: { error: Error; retry?: () => void }) {
  const told = error instanceof Problem ? error.told : { title: error.message, kind: 'internal' as const };
  const facts = (['asked', 'seen', 'where', 'rule', 'remedy'] as const).filter((k) => k in told && told[k as keyof typeof told]);
  return (
    <section className="state" role="alert">
      <h2 className="refused">
        <Mark name="refused" /> {told.title}
      </h2>
      <dl>
        {facts.map((k) => (
          <div key={k}>
            <dt>{k}</dt>
            <dd>{String(told[k as keyof typeof told])}</dd>
          </div>
        ))}
      </dl>
      {retry && (
        <button type="button" className="btn" onClick={retry}>
          Ask again
        </button>
      )}
    </section>
  );
}
