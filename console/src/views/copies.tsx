// Copies: what moves and moved between registries. A copy's page shows the same after a reload, and can stop it or go on with it.
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, queries, take, Problem, type Schema } from '../api/client';
import { WorkState } from '../parts/build';
import { Bytes, scaled } from '../parts/bytes';
import { Inline } from '../parts/digest';
import { Mark } from '../parts/marks';
import { copyPath, imagePath, repositoryOf, tagsPath } from '../parts/paths';
import { Section } from '../parts/section';
import { Empty, Failed, Loading } from '../parts/states';
import { Age, SECOND } from '../parts/time';
import { useWho } from '../parts/who';

type Copy = Schema['Copy'];
type Piece = Schema['CopyPiece'];

export function CopiesView() {
  const [params] = useSearchParams();
  const before = params.get('before') ?? '';
  const list = useQuery({
    queryKey: ['copies', before],
    queryFn: () => take(api.GET('/api/v1/copies', { params: { query: { limit: 50, ...(before && { before }) } } })),
  });
  if (!list.data && list.isError) return <Failed error={list.error} retry={() => void list.refetch()} />;
  if (!list.data) return <Loading what="copies" />;
  const { items, next } = list.data;
  const open = items.filter((c) => !c.ended).length;
  return (
    <>
      <title>Copies · Dovrak</title>
      <header className="head">
        <h1>Copies</h1>
        <p className="note">
          What was copied by hand, newest first
          {open > 0 && (
            <>
              ; <b>{open}</b> under way
            </>
          )}
        </p>
      </header>
      {items.length === 0 ? (
        <Empty title="Nothing was copied yet">
          <code>dovrak copy IMAGE REPOSITORY</code> moves what is missing, and proves what arrived.
        </Empty>
      ) : (
        <div className="scroll" tabIndex={0} role="region" aria-label="Copies">
          <table className="lines">
            <thead>
              <tr>
                <th scope="col">copy</th>
                <th scope="col">image</th>
                <th scope="col">from</th>
                <th scope="col">to</th>
                <th scope="col">how far</th>
                <th scope="col" className="num">
                  asked
                </th>
              </tr>
            </thead>
            <tbody>
              {items.map((c) => (
                <tr key={c.number}>
                  <th scope="row">
                    <Link to={copyPath(c.number)}>
                      <b>{c.number}</b>
                    </Link>{' '}
                    <WorkState state={c.state} />
                  </th>
                  <td>
                    <Inline digest={c.digest} />
                  </td>
                  <td>{c.from}</td>
                  <td>
                    {c.places.map((p) => (
                      <div key={p.to}>{p.to}</div>
                    ))}
                  </td>
                  <td>
                    <HowFar c={c} />
                  </td>
                  <td className="num unit">
                    <Age of={c.asked} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {next && (
        <p className="note">
          <Link to={`?before=${next}`}>older ones</Link>
        </p>
      )}
    </>
  );
}

/** HowFar is a copy in a line of a list. */
function HowFar({ c }: { c: Copy }) {
  const sum = (of: (p: Schema['Progress']) => number) => c.progress.reduce((n, p) => n + of(p), 0);
  if (c.progress.length === 0) return <span className="quiet">nothing yet</span>;
  if (c.ended) return <Bytes n={sum((p) => p.moved)} />;
  return (
    <>
      <Bytes n={sum((p) => p.moved)} /> of <Bytes n={sum((p) => p.total)} />
    </>
  );
}

export function CopyView() {
  const number = Number(useParams().number);
  const copy = useQuery({
    queryKey: ['copy', number],
    queryFn: () => take(api.GET('/api/v1/copies/{number}', { params: { path: { number } } })),
  });
  if (!copy.data && copy.isError) return <Failed error={copy.error} retry={() => void copy.refetch()} />;
  if (!copy.data) return <Loading what={`copy ${number}`} />;
  const c = copy.data;
  return (
    <>
      <title>{`Copy ${number} · Dovrak`}</title>
      <section className="top">
        <div>
          <h1>Copy {c.number}</h1>
          <p className="sum">
            <WorkState state={c.state} />; asked <Age of={c.asked} /> ago by {c.by}
          </p>
        </div>
      </section>
      <div className="under">
        <span>
          <Link to={imagePath(`${c.from}@${c.digest}`)}>{c.from}</Link> →{' '}
          {c.places.map((p, i) => (
            <span key={p.to}>
              {i > 0 && ', '}
              <Link to={tagsPath(repositoryOf(p.to))}>{p.to}</Link>
            </span>
          ))}{' '}
          &nbsp;/&nbsp; <Link to="/copies">all copies</Link>
        </span>
      </div>
      <div className="two">
        <div>
          {c.problem && <Failed error={new Problem(c.problem)} />}
          {c.progress.map((p) => (
            <Section key={p.repository} title={p.repository} aside={c.ended ? undefined : <Pace p={p} />}>
              <Place p={p} />
              <Pieces of={c.places.find((at) => repositoryOf(at.to) === p.repository)?.pieces ?? []} />
            </Section>
          ))}
          {c.progress.length === 0 && (
            <Section title="Places">
              <p className="note">{c.places.length === 1 ? 'The destination is' : 'The destinations are'} asked for what is there.</p>
            </Section>
          )}
        </div>
        <div>
          <Turn c={c} />
          {c.state === 'verified' && c.began && c.endedAt && (
            <Section title="Proof">
              <p className="note">
                <Mark name="holds" /> every piece is there, and the registry answers with the digest:{' '}
                {((new Date(c.endedAt).getTime() - new Date(c.began).getTime()) / SECOND).toFixed(1)} s, {c.requests} requests
              </p>
            </Section>
          )}
          <Section title="What">
            <ul className="pairs stack">
              <li>
                <span className="unit">image</span>
                <span>
                  <Inline digest={c.digest} />
                </span>
              </li>
              {c.of && c.of !== c.digest && (
                <li>
                  <span className="unit">out of</span>
                  <span>
                    <Inline digest={c.of} /> {c.platforms?.join(', ')}
                  </span>
                </li>
              )}
              <li>
                <span className="unit">attached</span>
                <span>
                  {c.attached} {c.attached === 1 ? 'goes' : 'go'} along; asked for: {c.referrers}
                </span>
              </li>
            </ul>
          </Section>
        </div>
      </div>
    </>
  );
}

/** Place is how far one destination is: present, moved, missing, on the scale of the whole. */
function Place({ p }: { p: Schema['Progress'] }) {
  const whole = Math.max(1, p.total + p.present);
  const parts = [
    { kind: 'done', bytes: p.present, title: 'present already' },
    { kind: 'mounted', bytes: p.mounted, title: 'mounted from a sibling, without moving' },
    { kind: 'moved', bytes: p.moved, title: 'moved' },
    { kind: 'only', bytes: Math.max(0, p.total - p.moved - p.mounted), title: 'to move' },
  ].filter((s) => s.bytes > 0);
  const said = `${scaled(p.moved).join(' ')} of ${scaled(p.total).join(' ')} moved, ${scaled(p.present).join(' ')} present`;
  return (
    <div className="platform">
      <div>
        <b>
          {p.pieces} {p.pieces === 1 ? 'piece' : 'pieces'}
        </b>
        <span className="note">{p.problem ? `given up: ${p.problem}` : 'came in'}</span>
      </div>
      <div className="strata" role="img" aria-label={said}>
        {parts.map((s) => (
          <span
            key={s.kind}
            className={`seg ${s.kind}`}
            style={{ width: `${(100 * s.bytes) / whole}%` }}
            title={`${s.title}: ${scaled(s.bytes).join(' ')}`}
          />
        ))}
      </div>
      <div className="num">
        <b>
          <Bytes n={p.moved} />
        </b>
        <span className="unit block">
          <Bytes n={p.present + p.mounted} /> saved
        </span>
      </div>
    </div>
  );
}

/** Pace is how fast a place receives, and how long it will take at that. */
function Pace({ p }: { p: Schema['Progress'] }) {
  const left = p.total - p.moved - p.mounted;
  if (left <= 0) return <>proving what arrived</>;
  if (p.rate <= 0) return <>waiting</>;
  return (
    <>
      {scaled(p.rate).join(' ')} a second, about {waitOf(left / p.rate)} left
    </>
  );
}

/** waitOf is a time to wait, in seconds, as people say it. */
function waitOf(seconds: number): string {
  const s = Math.ceil(seconds);
  if (s < 60) return `${s} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min ${s % 60} s`;
  return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
}

const fates: Record<Piece['what'], string> = {
  move: 'to move',
  mount: 'to mount',
  present: 'was there',
  foreign: 'left where it lies',
  moving: 'on its way',
  moved: 'moved',
  mounted: 'mounted',
  sent: 'sent by another copy',
};

/** Pieces are all that a place gets, those on their way first. */
function Pieces({ of }: { of: Piece[] }) {
  const order = (p: Piece) => (p.what === 'moving' ? 0 : p.what === 'move' || p.what === 'mount' ? 1 : 2);
  const rows = of.map((p, i) => ({ p, i })).sort((a, b) => order(a.p) - order(b.p) || a.i - b.i);
  return (
    <div className="scroll pieces" tabIndex={0} role="region" aria-label="Pieces">
      <table className="lines">
        <thead>
          <tr>
            <th scope="col">piece</th>
            <th scope="col" className="num">
              size
            </th>
            <th scope="col">how far</th>
          </tr>
        </thead>
        <tbody>
          {rows.map(({ p }) => (
            <tr key={p.digest}>
              <th scope="row">
                <Inline digest={p.digest} />
              </th>
              <td className="num">
                <Bytes n={p.size} />
              </td>
              <td>
                {p.what === 'moving' && (
                  <span
                    className="strata thin"
                    role="img"
                    aria-label={`${scaled(p.moved ?? 0).join(' ')} of ${scaled(p.size).join(' ')}`}
                  >
                    <span className="seg moved" style={{ width: `${(100 * (p.moved ?? 0)) / Math.max(1, p.size)}%` }} />
                  </span>
                )}
                <span className={p.what === 'move' || p.what === 'mount' || p.what === 'moving' ? '' : 'quiet'}>
                  {p.what === 'moving' && <>{scaled(p.moved ?? 0).join(' ')} </>}
                  {fates[p.what]}
                  {p.what === 'mount' && p.from && ` from ${p.from}`}
                </span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** Turn is the one decision on the page: to stop it, or to go on. */
function Turn({ c }: { c: Copy }) {
  const may = useWho().data?.may.includes('copy') ?? false;
  const path = { params: { path: { number: c.number } } };
  const turn = useMutation({
    mutationFn: (to: 'stop' | 'resume') =>
      to === 'stop' ? take(api.POST('/api/v1/copies/{number}/stop', path)) : take(api.POST('/api/v1/copies/{number}/resume', path)),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['copy'] }),
  });
  const to = !c.ended ? 'stop' : c.state === 'stopped' || c.state === 'failed' ? 'resume' : undefined;
  return (
    <div className="turn">
      {to && may && (
        <button type="button" className={to === 'resume' ? 'btn go' : 'btn'} disabled={turn.isPending} onClick={() => turn.mutate(to)}>
          {to === 'stop' ? 'Stop it' : 'Go on with it'}
        </button>
      )}
      {turn.isError && <Failed error={turn.error} />}
    </div>
  );
}
