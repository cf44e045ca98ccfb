// Copies: what moves and moved between registries. A copy's page shows the same after a reload, and can stop it or go on with it.
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, queries, take, Problem, type Schema } from '../api/client';
import { WorkState } from '../parts/build';
import { Bytes, scaled } from '../parts/bytes';
import { Inline } from '../parts/digest';
import { Mark } from '../parts/marks';
import { copyPath, imagePath, tagsPath } from '../parts/paths';
import { Section } from '../parts/section';
import { Empty, Failed, Loading } from '../parts/states';
import { Age, SECOND, useNow } from '../parts/time';

type Copy = Schema['Copy'];

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
                  <td>{c.to}</td>
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
  const [p] = c.progress;
  if (!p) return <span className="quiet">nothing yet</span>;
  if (c.ended) return <Bytes n={p.moved} />;
  return (
    <>
      <Bytes n={p.moved} /> of <Bytes n={p.total} />
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
          <Link to={imagePath(`${c.from}@${c.digest}`)}>{c.from}</Link> → <Link to={tagsPath(c.to)}>{c.to}</Link> &nbsp;/&nbsp;{' '}
          <Link to="/copies">all copies</Link>
        </span>
      </div>
      <div className="two">
        <div>
          {c.problem && <Failed error={new Problem(c.problem)} />}
          <Section title="Places" aside={c.ended ? undefined : <Rate c={c} />}>
            {c.progress.map((p) => (
              <Place key={p.repository} p={p} />
            ))}
            {c.progress.length === 0 && <p className="note">The destination is asked what it has.</p>}
          </Section>
          <Turn c={c} />
        </div>
        <div>
          {c.state === 'verified' && c.began && c.endedAt && (
            <Section title="Proof">
              <p className="note">
                <Mark name="holds" /> every piece is there, and the registry answers with the digest:{' '}
                {((new Date(c.endedAt).getTime() - new Date(c.began).getTime()) / SECOND).toFixed(1)} s
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
        <b>{p.repository}</b>
        <span className="note">{p.pieces} pieces are in</span>
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

/** Rate is how fast it goes on the whole, and how long it will take at that. */
function Rate({ c }: { c: Copy }) {
  const now = useNow();
  const moved = c.progress.reduce((n, p) => n + p.moved, 0);
  const left = c.progress.reduce((n, p) => n + Math.max(0, p.total - p.moved - p.mounted), 0);
  const took = (now - new Date(c.began ?? c.asked).getTime()) / SECOND;
  if (moved === 0 || took < 1) return <>beginning</>;
  const rate = moved / took;
  return (
    <>
      {scaled(rate).join(' ')} a second, about {Math.ceil(left / rate)} s left
    </>
  );
}

/** Turn is the one decision on the page: to stop it, or to go on. */
function Turn({ c }: { c: Copy }) {
  const path = { params: { path: { number: c.number } } };
  const turn = useMutation({
    mutationFn: (to: 'stop' | 'resume') =>
      to === 'stop' ? take(api.POST('/api/v1/copies/{number}/stop', path)) : take(api.POST('/api/v1/copies/{number}/resume', path)),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['copy'] }),
  });
  const to = !c.ended ? 'stop' : c.state === 'stopped' || c.state === 'failed' ? 'resume' : undefined;
  return (
    <div className="mt-4">
      {to && (
        <button type="button" className={to === 'resume' ? 'btn go' : 'btn'} disabled={turn.isPending} onClick={() => turn.mutate(to)}>
          {to === 'stop' ? 'Stop it' : 'Go on with it'}
        </button>
      )}
      {turn.isError && <Failed error={turn.error} />}
    </div>
  );
}
