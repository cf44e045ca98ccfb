// A section of a page: its name on a rule, what it counts at the right.
import type { ReactNode } from 'react';

export function Section({ title, aside, children }: { title: string; aside?: ReactNode; children: ReactNode }) {
  return (
    <section className="part">
      <h2>
        {title} {aside && <span>{aside}</span>}
      </h2>
      {children}
    </section>
  );
}
