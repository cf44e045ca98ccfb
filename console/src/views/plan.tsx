// A plan, as promotions and roll backs show it before and after: what stands and what would, the gates, what moves, which tags are
// pointed from what to what.
import type { ReactNode } from 'react';
import { Link } from 'react-router';
import type { Schema } from '../api/client';
import { Bytes } from '../parts/bytes';
import { Inline } from '../parts/digest';
import { Mark, type MarkName } from '../parts/marks';
import { comparePath, tagsPath } from '../parts/paths';
import { Ridge, short } from '../parts/ridge';

type Plan = Schema['Plan'];
type Gate = Schema['Gate'];

/** Step is one line of the list; what has not come yet is quiet. */
export function Step({
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

/** standingChange is the change of the standing tag in the first place: what the environment means now and would mean. */
const standingChange = (plan: Plan) => plan.places[0]?.tags.at(-1);

/** Pair draws what stands there and what would; done: what stood there and what does. */
export function Pair({ plan, done = false }: { plan: Plan; done?: boolean }) {
  const change = standingChange(plan);
  if (!change) return null;
  const at = plan.places[0]?.repository;
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
        {change.from && at && <Link to={comparePath(`${at}@${change.from}`, `${plan.source}@${plan.digest}`)}>compare</Link>}
      </div>
      <div>
        <span>
          what {change.tag} {done ? 'means' : 'would mean'}
        </span>
        <code>{short(plan.digest)}</code>
        <Ridge digest={plan.digest} width={150} height={50} />
      </div>
    </div>
  );
}

export function Gates({ of }: { of: Gate[] }) {
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

export function Amounts({ plan }: { plan: Plan }) {
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
        {plan.places.map((at) => {
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
function grouped(plan: Plan) {
  const rows = new Map<string, { tag: string; from: string | undefined; to: string; places: string[] }>();
  for (const at of plan.places) {
    for (const t of at.tags) {
      const key = `${t.tag} ${t.from ?? ''} ${t.to}`;
      const row = rows.get(key) ?? { tag: t.tag, from: t.from, to: t.to, places: [] };
      row.places.push(at.repository);
      rows.set(key, row);
    }
  }
  return [...rows.values()];
}

export function Tags({ plan, done = false }: { plan: Plan; done?: boolean }) {
  return (
    <table className="gates">
      <thead>
        <tr>
          <th scope="col">tag</th>
          <th scope="col">places</th>
          <th scope="col">{done ? 'meant' : 'means now'}</th>
          <th scope="col">{done ? 'means' : 'will mean'}</th>
        </tr>
      </thead>
      <tbody>
        {grouped(plan).map((t) => (
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

/** Stays tells the moving tags that the image would have, and that their rules keep where they are. */
export function Stays({ plan }: { plan: Plan }) {
  return plan.places.flatMap((at) =>
    at.stays.map((t) => (
      <p key={at.repository + t.tag} className="note">
        <code>{t.tag}</code> in {at.repository.split('/')[0]} stays
        {t.from && (
          <>
            {' '}
            at <Inline digest={t.from} />
          </>
        )}
        : {t.why}
      </p>
    )),
  );
}

/** Waysides mark a plan that goes another way than usual. */
export function Waysides({ plan }: { plan: Plan }) {
  return (
    <>
      {plan.emergency && <b className="refused"> emergency</b>}
      {plan.skips && <b className="refused"> skips an environment</b>}
      {plan.again && <b className="waits"> again, though it was rolled back</b>}
    </>
  );
}
