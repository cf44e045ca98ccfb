// A promotion's page reads from top to bottom like a boarding checklist: what is asked, what each gate says, what moves, which tags are
// pointed, who agrees, how far it is, and the proof. Beside it: what changes, and what was there before.
import type { ReactNode } from 'react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { api, queries, take, Problem, type Schema } from '../api/client';
import { WorkState } from '../parts/build';
import { Bytes, scaled } from '../parts/bytes';
import { Inline } from '../parts/digest';
import { Mark, type MarkName } from '../parts/marks';
import { comparePath, imagePath, promotionPath, tagsPath } from '../parts/paths';
import { Ridge, short } from '../parts/ridge';
import { Section } from '../parts/section';
import { Failed, Loading } from '../parts/states';
import { Age, Clock, SECOND } from '../parts/time';
import { useWho } from '../parts/who';
import { Approvals, Changes, useProspect } from './approvals';

type Promotion = Schema['Promotion'];
type Gate = Schema['Gate'];

export function PromotionView() {
  const number = Number(useParams().number);
  const promotion = useQuery({
    queryKey: ['promotion', number],
    queryFn: () => take(api.GET('/api/v1/promotions/{number}', { params: { path: { number } } })),
  });
  if (!promotion.data && promotion.isError) return <Failed error={promotion.error} retry={() => void promotion.refetch()} />;
  if (!promotion.data) return <Loading what={`promotion ${number}`} />;
  const p = promotion.data;
  return <Page p={p} />;
}

function Page({ p }: { p: Promotion }) {
  const prospect = useProspect(p.number);
  return (
    <>
      <title>{`Promotion ${p.number} · Dovrak`}</title>
      <section className="top">
        <div>
          <h1>Promotion {p.number}</h1>
          <p className="sum">
            <b>
              {p.component} {p.version}
            </b>
            , {p.plan.from && `${p.plan.from} `}to {p.environment}. <WorkState state={p.state} />
            {p.plan.emergency && <b className="refused"> Emergency</b>}
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
          <Checklist p={p} prospect={prospect.data} />
        </div>
        <div>
          {prospect.isError && <p className="note refused">{prospect.error.message}</p>}
          {prospect.data && <Changes p={p} of={prospect.data} />}
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
  const may = useWho().data?.may.includes('promote') ?? false; // whether here, the service says
  const stop = useMutation({
    mutationFn: () => take(api.POST('/api/v1/promotions/{number}/stop', { params: { path: { number: p.number } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['promotion'] }),
  });
  if (stop.isError) return <span className="refused"> {stop.error.message}</span>;
  if (p.state !== 'waiting' || !may) return null;
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

function Checklist({ p, prospect }: { p: Promotion; prospect: Schema['Prospect'] | undefined }) {
  const { places } = p.plan;
  const gates = p.plan.gates.filter((g) => g.comes !== 'person' && g.gate !== 'approvals');
  const people = p.plan.gates.find((g) => g.gate === 'approvals');
  const open = gates.filter((g) => g.verdict !== 'holds' && !g.waived).length;
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
      <Step
        no={5}
        title="Approvals"
        later={!people}
        note={people && (people.verdict === 'holds' ? 'given' : <b className="waits">{p.ended ? 'not given' : 'waits'}</b>)}
      >
        {people ? <Approvals p={p} gate={people} prospect={prospect} /> : `The charter asks nobody for ${p.environment}.`}
      </Step>
      <Step no={6} title="Progress" later={!begun && !done}>
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
      <Step no={7} title="Proof" later={!done}>
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
  const wanting = of.some((g) => g.verdict !== 'holds');
  const sign = (g: Gate): [MarkName, string] =>
    g.verdict === 'holds' ? ['holds', ''] : g.waived ? ['refused', 'waived'] : g.comes ? ['waits', 'waits'] : ['refused', 'refused'];
  return (
    <table className="gates">
      <thead>
        <tr>
          <th scope="col">gate</th>
          <th scope="col">seen</th>
          {wanting && <th scope="col">wants</th>}
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
              {wanting && <td>{g.waived ? 'waived: an emergency' : g.wants}</td>}
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

/** grouped puts together what a tag goes from and to alike in several places. */
function grouped(p: Promotion) {
  const rows = new Map<string, { tag: string; from: string | undefined; to: string; places: string[] }>();
  for (const at of p.plan.places) {
    for (const t of at.tags) {
      const key = `${t.tag} ${t.from ?? ''} ${t.to}`;
      const row = rows.get(key) ?? { tag: t.tag, from: t.from, to: t.to, places: [] };
      row.places.push(at.repository);
      rows.set(key, row);
    }
  }
  return [...rows.values()];
}

function Tags({ p }: { p: Promotion }) {
  return (
    <table className="gates">
      <thead>
        <tr>
          <th scope="col">tag</th>
          <th scope="col">places</th>
          <th scope="col">{p.state === 'verified' ? 'meant' : 'means now'}</th>
          <th scope="col">{p.state === 'verified' ? 'means' : 'will mean'}</th>
        </tr>
      </thead>
      <tbody>
        {grouped(p).map((t) => (
          <tr key={t.tag + t.places.join()}>
            <th scope="row">
              <code>{t.tag}</code>
            </th>
            <td title={t.places.join(', ')}>{t.places.map((r) => r.split('/')[0]).join(', ')}</td>
            <td>{t.from ? <Inline digest={t.from} /> : <i className="quiet">nothing yet</i>}</td>
            <td>
              <Inline digest={t.to} />
            </td>
          </tr>
        ))}
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
