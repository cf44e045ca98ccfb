// What happened in a promotion or a roll back, as the trail has it, the newest first. Tags that changed one behind the other are one line.
import { useQuery } from '@tanstack/react-query';
import { api, take, type TrailEntry } from '../api/client';
import { plain } from '../parts/act';
import { Section } from '../parts/section';
import { Clock } from '../parts/time';

const MOST = 200;

export function Happened({ number }: { number: number }) {
  const trail = useQuery({
    queryKey: ['trail', 'promotion', number],
    queryFn: () => take(api.GET('/api/v1/trail', { params: { query: { promotion: number, limit: MOST } } })),
  });
  return (
    <Section title="What happened" aside="UTC">
      {trail.isError && <p className="note refused">{trail.error.message}</p>}
      <ul className="pairs happened">
        {lines(trail.data?.items ?? []).map((l) => (
          <li key={l.id}>
            <span>{l.tags.size > 0 ? <Tags line={l} /> : <Act of={l.first} />}</span>
            <span className="unit">
              <Clock of={l.first.at} />
            </span>
          </li>
        ))}
      </ul>
      {trail.data?.next && (
        <p className="note">
          There is more: <code>dovrak trail --promotion {number}</code>
        </p>
      )}
    </Section>
  );
}

/** One line: an entry, or several of one act on tags, with the places of each tag. */
type Line = { id: string; first: TrailEntry; tags: Map<string, string[]> };

function lines(entries: TrailEntry[]): Line[] {
  const out: Line[] = [];
  for (const e of entries) {
    const [, place, tag] = /^([^/]+)\/.*:([^:/]+)$/.exec(e.facts['subject'] ?? '') ?? [];
    let line = out.at(-1);
    if (!tag || !place || !line || line.tags.size === 0 || line.first.act !== e.act) {
      line = { id: e.id, first: e, tags: new Map() };
      out.push(line);
    }
    if (tag && place) line.tags.set(tag, [...(line.tags.get(tag) ?? []), place]);
  }
  return out;
}

/** Tags tells of tags as they were changed: the first to change stands first. */
function Tags({ line }: { line: Line }) {
  return (
    <>
      {plain(line.first.act)}{' '}
      {[...line.tags].toReversed().map(([tag, places], i) => (
        <span key={tag}>
          {i > 0 && '; '}
          <code>{tag}</code> in {places.toSorted().join(', ')}
        </span>
      ))}
    </>
  );
}

const well = ['promotion done', 'roll back done'];
const badly = ['promotion failed', 'roll back failed', 'switch taken back', 'switch split', 'promotion declined'];

function Act({ of: e }: { of: TrailEntry }) {
  const tone = badly.includes(e.act) ? 'refused' : undefined;
  const act = well.includes(e.act) ? 'verified' : plain(e.act);
  return (
    <>
      <b className={tone}>{act}</b>
      {!tone && !well.includes(e.act) && <> by {e.by}</>}
      {e.facts['problem'] && <>: {e.facts['problem']}</>}
    </>
  );
}
