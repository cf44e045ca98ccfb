// Empty, loading, failed: each says what belongs there, and the one thing that fills it.
import type { ReactNode } from 'react';
import { Problem } from '../api/client';
import { Mark } from './marks';

export function Loading({ what }: { what: string }) {
  return (
    <p className="quiet py-7" role="status">
      Asking for {what} …
    </p>
  );
}

export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="max-w-184 py-7">
      <h2 className="text-(length:--size-head) font-semibold">{title}</h2>
      <p className="mt-2 text-ink-2">{children}</p>
    </section>
  );
}

export function Failed({ error, retry }: { error: Error; retry?: () => void }) {
  const told = error instanceof Problem ? error.told : { title: error.message, kind: 'internal' as const };
  const facts = (['asked', 'seen', 'where', 'rule', 'remedy'] as const).filter((k) => k in told && told[k as keyof typeof told]);
  return (
    <section className="max-w-184 py-7" role="alert">
      <h2 className="refused text-(length:--size-head) font-semibold">
        <Mark name="refused" /> {told.title}
      </h2>
      <dl className="mt-2 text-ink-2">
        {facts.map((k) => (
          <div key={k} className="flex gap-3">
            <dt className="w-18 flex-none text-ink-3 italic">{k}</dt>
            <dd className="wrap-anywhere">{String(told[k as keyof typeof told])}</dd>
          </div>
        ))}
      </dl>
      {retry && (
        <button type="button" className="btn mt-3.5" onClick={retry}>
          Ask again
        </button>
      )}
    </section>
  );
}
