// What the places said when a switch was over, tag by tag and platform by platform; and the review of one that went another way than usual.
import { api, take, type Schema } from '../api/client';
import { Decision } from '../parts/decision';
import { Inline } from '../parts/digest';
import { Mark } from '../parts/marks';
import { Age, Clock, SECOND } from '../parts/time';
import { useWho } from '../parts/who';

type Promotion = Schema['Promotion'];
type Stand = Schema['TagStand'];

export function Proof({ p }: { p: Promotion }) {
  const done = p.state === 'verified';
  if (p.stands.length === 0)
    return done ? 'what each place said was not kept then' : 'each place is asked again when its tags are pointed';
  return (
    <>
      {done && p.began && p.endedAt && (
        <p className="note">
          <Mark name="holds" /> every place was asked again, and gives each platform its image: in{' '}
          {((new Date(p.endedAt).getTime() - new Date(p.began).getTime()) / SECOND).toFixed(1)} s, {p.requests} requests
        </p>
      )}
      <table className="gates">
        <thead>
          <tr>
            <th scope="col">place</th>
            <th scope="col">tag</th>
            <th scope="col">means</th>
            <th scope="col">{done ? 'is given to' : 'against what it was to mean'}</th>
            <th scope="col" className="num">
              seen
            </th>
          </tr>
        </thead>
        <tbody>
          {p.stands.map((s) => (
            <Line key={s.repository + s.tag} s={s} done={done} />
          ))}
        </tbody>
      </table>
    </>
  );
}

function Line({ s, done }: { s: Stand; done: boolean }) {
  const as = s.means === s.wanted;
  return (
    <tr className={s.seen ? undefined : 'waits'}>
      <th scope="row">{s.repository.split('/')[0]}</th>
      <td>
        <code>{s.tag}</code>
      </td>
      <td>
        {!s.seen ? (
          <b className="refused">could not be asked</b>
        ) : s.means ? (
          <Inline digest={s.means} />
        ) : (
          <i className="quiet">nothing</i>
        )}
      </td>
      <td>
        {done ? (
          s.platforms.map((x) => (
            <span key={x.platform} className="given" title={x.digest}>
              <Mark name="holds" /> {x.platform.replace('linux/', '')}
            </span>
          ))
        ) : (
          <span className={s.why ? 'refused' : 'quiet'}>
            {s.why ?? (as ? 'as it was to be' : s.means === s.before ? 'as before' : '')}
          </span>
        )}
      </td>
      <td className="num unit">{s.seen && <Clock of={s.seen} />}</td>
    </tr>
  );
}

/** Review is what was said afterwards of an emergency, or of one that skipped an environment; or the words of who may say it. */
export function Review({ p }: { p: Promotion }) {
  const may = useWho().data?.approvesIn.includes(p.environment) ?? false;
  if (p.review)
    return (
      <p className="note">
        <Mark name="holds" /> reviewed by <b>{p.review.by}</b>, <Age of={p.review.at} /> ago: <i>“{p.review.remark}”</i>
      </p>
    );
  if (!p.unreviewed || p.state !== 'verified') return null;
  const say = (remark: string) =>
    take(api.POST('/api/v1/promotions/{number}/review', { params: { path: { number: p.number } }, body: { remark } }));
  return (
    <>
      <p className="note waits">
        <Mark name="waits" /> It went another way than usual, and nobody has reviewed that yet.
      </p>
      {may && (
        <Decision
          id="review"
          ask="what you found (goes on the trail)"
          ways={[{ name: 'Reviewed', tone: 'go', say }]}
          stale={['promotion', 'promotions', 'standing']}
        />
      )}
    </>
  );
}
