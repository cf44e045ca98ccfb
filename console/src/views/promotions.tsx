// Promotions: what goes from an environment to the next. A promotion's page reads from top to bottom like a boarding checklist: what
// is asked, what each gate says, what moves, which tags are pointed, how far it is, and the proof.
import type { ReactNode } from 'react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, queries, take, Problem, type Schema } from '../api/client';
import { WorkState } from '../parts/build';
import { Bytes, scaled } from '../parts/bytes';
import { Inline } from '../parts/digest';
import { Mark, type MarkName } from '../parts/marks';
import { comparePath, imagePath, promotionPath, tagsPath } from '../parts/paths';
import { Ridge, short } from '../parts/ridge';
import { Section } from '../parts/section';
import { Empty, Failed, Loading } from '../parts/states';
import { Age, Clock, SECOND } from '../parts/time';

type Promotion = Schema['Promotion'];
type Gate = Schema['Gate'];

export function PromotionsView() {
  const [params] = useSearchParams();
  const before = params.get('before') ?? '';
  const list = useQuery({
    queryKey: ['promotions', before],
    queryFn: () => take(api.GET('/api/v1/promotions', { params: { query: { limit: 50, ...(before && { before }) } } })),
  });
  if (!list.data && list.isError) return <Failed error={list.error} retry={() => void list.refetch()} />;
  if (!list.data) return <Loading what="promotions" />;
  const { items, next } = list.data;
  const waiting = items.filter((p) => p.state === 'waiting').length;
  return (
    <>
      <title>Promotions · Dovrak</title>
      <header className="head">
        <h1>Promotions</h1>
        <p className="note">
          What went from an environment to the next, newest first
          {waiting > 0 && (
            <>
              ; <b className="waits">{waiting}</b> {waiting === 1 ? 'waits' : 'wait'}
            </>
          )}
        </p>
      </header>
      {items.length === 0 ? (
        <Empty title="Nothing was promoted yet">
          <code>dovrak promote COMPONENT --to ENVIRONMENT</code> moves what stands in the environment before.
        </Empty>
      ) : (
        <div className="scroll" tabIndex={0} role="region" aria-label="Promotions">
          <table className="lines">
            <thead>
              <tr>
                <th scope="col">promotion</th>
                <th scope="col">component</th>
                <th scope="col">image</th>
                <th scope="col">to</th>
                <th scope="col">why</th>
                <th scope="col">by</th>
                <th scope="col" className="num">
                  asked
                </th>
              </tr>
            </thead>
            <tbody>
              {items.map((p) => (
                <tr key={p.number}>
                  <th scope="row">
                    <Link to={promotionPath(p.number)}>
                      <b>{p.number}</b>
                    </Link>{' '}
                    <WorkState state={p.state} />
                  </th>
                  <td>
                    {p.component} <b>{p.version}</b>
                  </td>
                  <td>
                    <Inline digest={p.digest} />
                  </td>
                  <td>{p.environment}</td>
                  <td className="quiet">{p.because}</td>
                  <td>{p.by}</td>
                  <td className="num unit">
                    <Age of={p.asked} />
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

export function PromotionView() {
  const number = Number(useParams().number);
  const promotion = useQuery({
    queryKey: ['promotion', number],
    queryFn: () => take(api.GET('/api/v1/promotions/{number}', { params: { path: { number } } })),
  });
  if (!promotion.data && promotion.isError) return <Failed error={promotion.error} retry={() => void promotion.refetch()} />;
  if (!promotion.data) return <Loading what={`promotion ${number}`} />;
  const p = promotion.data;
  return (
    <>
      <title>{`Promotion ${number} · Dovrak`}</title>
      <section className="top">
        <div>
          <h1>Promotion {p.number}</h1>
          <p className="sum">
            <b>
              {p.component} {p.version}
            </b>
            , to {p.environment}. <WorkState state={p.state} />
            <Stop p={p} />
          </p>
        </div>
        <Pair p={p} />
      </section>
      <div className="under">
        <span>
          from <Link to={imagePath(`${p.plan.source}@${p.digest}`)}>{p.plan.source}</Link>, by charter {p.plan.charter} &nbsp;/&nbsp;{' '}
          <Link to="/promotions">all promotions</Link>
        </span>
      </div>
      <div className="two">
        <div>
          {p.problem && <Failed error={new Problem(p.problem)} />}
          <Checklist p={p} />
        </div>
        <div>
          <Before p={p} />
        </div>
      </div>
    </>
  );
}

/** standingChange is the change of the standing tag in the first place: what the environment means now and would mean. */
const standingChange = (p: Promotion) => p.plan.places[0]?.tags.at(-1);

/** Pair draws what stands there and what would. */
function Pair({ p }: { p: Promotion }) {
  const change = standingChange(p);
  if (!change) return null;
  const done = p.state === 'verified';
  const at = p.plan.places[0]?.repository;
  return (
    <div className="pair">
      {change.from ? (
        <div>
          <span>
            what {change.tag} {done ? 'meant' : 'means now'}
          </span>
          <code>{short(change.from)}</code>
          <Ridge digest={change.from} width={150} height={50} />
        </div>
      ) : (
        <div>
          <span>
            {change.tag} {done ? 'meant' : 'means'} nothing
          </span>
        </div>
      )}
      <div className="to">
        <Mark name="moving" />
        {change.from && at && <Link to={comparePath(`${at}@${change.from}`, `${p.plan.source}@${p.digest}`)}>compare</Link>}
      </div>
      <div>
        <span>
          what {change.tag} {done ? 'means' : 'would mean'}
        </span>
        <code>{short(p.digest)}</code>
        <Ridge digest={p.digest} width={150} height={50} />
      </div>
    </div>
  );
}

function Stop({ p }: { p: Promotion }) {
  const stop = useMutation({
    mutationFn: () => take(api.POST('/api/v1/promotions/{number}/stop', { params: { path: { number: p.number } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['promotion'] }),
  });
  if (stop.isError) return <span className="refused"> {stop.error.message}</span>;
  if (p.state !== 'waiting') return null;
  return (
    <button type="button" className="btn stop" disabled={stop.isPending} onClick={() => stop.mutate()}>
      Stop it
    </button>
  );
}

/** Step is one line of the list; what has not come yet is quiet. */
function Step({
  no,
  title,
  note,
  later,
  children,
}: {
  no: number;
  title: string;
  note?: ReactNode;
  later?: boolean;
  children: ReactNode;
}) {
  return (
    <section className={later ? 'step later' : 'step'}>
      <span className="no">{no}</span>
      <div>
        <h2>{title}</h2>
        {note && <span className="note">{note}</span>}
      </div>
      <div>{children}</div>
    </section>
  );
}

function Checklist({ p }: { p: Promotion }) {
  const { gates, places } = p.plan;
  const open = gates.filter((g) => g.verdict !== 'holds').length;
  const begun = p.progress.length > 0;
  const done = p.state === 'verified';
  return (
    <>
      <Step no={1} title="Asked">
        by {p.by}, <Clock of={p.asked} /> UTC (<Age of={p.asked} /> ago): <i>“{p.because}”</i>
      </Step>
      <Step
        no={2}
        title="Gates"
        note={
          <>
            {gates.length - open} hold
            {open > 0 && (
              <b className={p.state === 'waiting' ? 'waits' : 'refused'}>
                , {open} {p.state === 'waiting' ? (open === 1 ? 'waits' : 'wait') : open === 1 ? 'does not' : 'do not'}
              </b>
            )}
          </>
        }
      >
        {gates.length === 0 ? <span className="quiet">The charter sets none for {p.environment}.</span> : <Gates of={gates} />}
      </Step>
      <Step no={3} title="What moves" note={`by digest, ${places.length === 1 ? '1 place' : `${places.length} places`}`}>
        <Amounts p={p} />
      </Step>
      <Step no={4} title="Tags pointed" note="at the switch, last">
        <Tags p={p} />
      </Step>
      <Step no={5} title="Progress" later={!begun && !done}>
        {begun || done ? (
          <ul className="note">
            {p.progress.map((x) => (
              <li key={x.repository}>
                {x.repository}: <Bytes n={x.moved + x.mounted} /> of <Bytes n={x.total} />
                {x.rate > 0 && !p.ended && `, ${scaled(x.rate).join(' ')} a second`}
                {x.problem && <b className="refused">; {x.problem}</b>}
              </li>
            ))}
          </ul>
        ) : (
          'not begun'
        )}
      </Step>
      <Step no={6} title="Proof" later={!done}>
        {done && p.began && p.endedAt ? (
          <>
            <Mark name="holds" /> every place was asked again by tag and means the image: in{' '}
            {((new Date(p.endedAt).getTime() - new Date(p.began).getTime()) / SECOND).toFixed(1)} s, {p.requests} requests
          </>
        ) : (
          'each place is asked again when its tags are pointed'
        )}
      </Step>
    </>
  );
}

function Gates({ of }: { of: Gate[] }) {
  const sign = (g: Gate): [MarkName, string] =>
    g.verdict === 'holds' ? ['holds', ''] : g.comes ? ['waits', 'waits'] : ['refused', 'refused'];
  return (
    <table className="gates">
      <thead>
        <tr>
          <th scope="col">gate</th>
          <th scope="col">seen</th>
          <th scope="col">wants</th>
        </tr>
      </thead>
      <tbody>
        {of.map((g) => {
          const [mark, tone] = sign(g);
          return (
            <tr key={g.gate} className={tone}>
              <th scope="row" title={g.asks}>
                <span className={tone}>
                  <Mark name={mark} />
                </span>{' '}
                {g.gate}
                <span className="sr">: {g.verdict}</span>
              </th>
              <td>{g.seen}</td>
              <td>{g.wants}</td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

function Amounts({ p }: { p: Promotion }) {
  return (
    <table className="gates">
      <thead>
        <tr>
          <th scope="col">place</th>
          <th scope="col" />
          <th scope="col" className="num">
            present
          </th>
          <th scope="col" className="num">
            to move
          </th>
        </tr>
      </thead>
      <tbody>
        {p.plan.places.map((at) => {
          const whole = Math.max(1, at.presentBytes + at.moveBytes);
          return (
            <tr key={at.repository}>
              <th scope="row">
                <Link to={tagsPath(at.repository)}>{at.repository}</Link>
              </th>
              <td>
                <span className="strata thin wide" aria-hidden="true">
                  <span className="seg done" style={{ width: `${(100 * at.presentBytes) / whole}%` }} />
                </span>
              </td>
              <td className="num">
                <Bytes n={at.presentBytes} />
              </td>
              <td className="num">
                <Bytes n={at.moveBytes} />
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

function Tags({ p }: { p: Promotion }) {
  return (
    <table className="gates">
      <thead>
        <tr>
          <th scope="col">tag</th>
          <th scope="col">{p.state === 'verified' ? 'meant' : 'means now'}</th>
          <th scope="col">{p.state === 'verified' ? 'means' : 'will mean'}</th>
        </tr>
      </thead>
      <tbody>
        {p.plan.places.flatMap((at) =>
          at.tags.map((t) => (
            <tr key={`${at.repository}:${t.tag}`}>
              <th scope="row">
                <span className="quiet">{at.repository}:</span>
                <code>{t.tag}</code>
              </th>
              <td>{t.from ? <Inline digest={t.from} /> : <i className="quiet">nothing yet</i>}</td>
              <td>
                <Inline digest={t.to} />
              </td>
            </tr>
          )),
        )}
      </tbody>
    </table>
  );
}

/** Before lists what was promoted there before. */
function Before({ p }: { p: Promotion }) {
  const query = { component: p.component, environment: p.environment, limit: 8 };
  const list = useQuery({
    queryKey: ['promotions', p.component, p.environment],
    queryFn: () => take(api.GET('/api/v1/promotions', { params: { query } })),
  });
  const older = list.data?.items.filter((x) => x.number < p.number).slice(0, 5) ?? [];
  return (
    <Section title={`Into ${p.environment} before`}>
      {list.isError && <p className="note refused">{list.error.message}</p>}
      <ul className="pairs">
        {older.map((x) => (
          <li key={x.number}>
            <span>
              <Link to={promotionPath(x.number)}>{x.number}</Link> {x.version}
            </span>
            <span className="unit">
              <WorkState state={x.state} />, <Age of={x.asked} /> ago
            </span>
          </li>
        ))}
      </ul>
      {list.data && older.length === 0 && <p className="note">Nothing of this component.</p>}
    </Section>
  );
}
