// Approvals of a promotion: who has agreed, the words and the two buttons of who may, and what the promotion changes. What is said is
// said of the plan that is shown: it carries that plan's binding.
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take, type Schema } from '../api/client';
import { Bytes } from '../parts/bytes';
import { Decision, yesOrNo } from '../parts/decision';
import { Mark } from '../parts/marks';
import { comparePath } from '../parts/paths';
import { Section } from '../parts/section';
import { Age } from '../parts/time';

type Promotion = Schema['Promotion'];
type Prospect = Schema['Prospect'];
type Gate = Schema['Gate'];

/** useProspect is what a promotion would change, and what was said of it. */
export const useProspect = (number: number) =>
  useQuery({
    queryKey: ['prospect', number],
    queryFn: () => take(api.GET('/api/v1/promotions/{number}/prospect', { params: { path: { number } } })),
  });

export function Approvals({ p, gate, prospect }: { p: Promotion; gate: Gate; prospect: Prospect | undefined }) {
  return (
    <>
      <p className="note">
        {gate.asks}
        {gate.verdict !== 'holds' && gate.seen !== 'nobody has agreed yet' && <>: {gate.seen}</>}
      </p>
      <ul className="said">
        {prospect?.said.map((s) => (
          <li key={s.by + s.at} className={s.counts ? undefined : 'quiet'}>
            <span className={s.agreed ? undefined : 'refused'}>
              <Mark name={s.agreed ? 'holds' : 'refused'} />
            </span>
            <b>{s.by}</b>
            <i>“{s.remark}”</i>
            <span className="unit">
              {s.agreed ? 'agreed' : 'declined'}
              {!s.counts && ' to the plan before'}, <Age of={s.at} /> ago
            </span>
          </li>
        ))}
      </ul>
      {p.state === 'waiting' && prospect && (prospect.maySay ? <Say p={p} /> : <p className="note">{prospect.whyNot}</p>)}
    </>
  );
}

/** Say is the decision of the one who looks, of the plan that is shown. */
function Say({ p }: { p: Promotion }) {
  const say = (agreed: boolean, remark: string) => {
    const body = { remark, binding: p.plan.binding };
    const params = { path: { number: p.number } };
    return take(
      agreed
        ? api.POST('/api/v1/promotions/{number}/approve', { params, body })
        : api.POST('/api/v1/promotions/{number}/decline', { params, body }),
    );
  };
  return <Decision id="remark" ways={yesOrNo(say)} stale={['promotion', 'prospect', 'mine', 'promotions']} />;
}

/** Changes is what stands there beside what would, and what lies between. */
export function Changes({ p, of }: { p: Promotion; of: Prospect }) {
  const { now, next, between } = of;
  const shown = between?.changes.slice(0, 6) ?? [];
  const more = (between?.changes.length ?? 0) - shown.length;
  const at = now && comparePath(now.reference, next.reference);
  return (
    <Section
      title={p.rollBack ? 'What it takes back' : p.state === 'verified' ? 'The image' : 'What changes'}
      aside={between && `build ${between.from.number} to ${between.to.number}`}
    >
      <ul className="pairs">
        {shown.map((c) => (
          <li key={c.id}>
            <span>{c.title}</span>
            <code className="unit">{c.id.slice(0, 7)}</code>
          </li>
        ))}
        {more > 0 && at && (
          <li>
            <Link to={at}>and {more} more</Link>
          </li>
        )}
        <Pair name="version" is={now?.version} next={next.version} />
        <Pair name="base" is={now?.base} next={next.base} />
        <li>
          <span>size</span>
          <span>
            {now && now.digest !== next.digest && (
              <>
                <Bytes n={now.size} /> →{' '}
              </>
            )}
            <Bytes n={next.size} />
          </span>
        </li>
        <Pair name="platforms" is={now && platforms(now)} next={platforms(next)} />
        {next.evidence.map((v) => (
          <li key={v.number}>
            <span className={v.verdict === 'failed' ? 'refused' : undefined}>
              <Mark name={v.verdict === 'failed' ? 'refused' : 'holds'} /> {v.link ? <a href={v.link}>{v.claim}</a> : v.claim}
              {v.note && <i className="quiet"> {v.note}</i>}
            </span>
            <span className="unit">
              {v.verdict}
              {v.expired && ', expired'}, <Age of={v.at} /> ago
            </span>
          </li>
        ))}
        {next.attested > 0 && (
          <li>
            <span>
              <Mark name="holds" /> attested
            </span>
            <span className="unit">{next.attested === 1 ? '1 signature fits' : `${next.attested} signatures fit`}</span>
          </li>
        )}
        {of.elsewhere.map((e) => (
          <li key={e.repository + e.tag}>
            <span>
              stands in <b>{e.environment}</b>
            </span>
            <span className="unit">
              {e.repository.split('/')[0]}
              {e.since && (
                <>
                  , for <Age of={e.since} />
                </>
              )}
            </span>
          </li>
        ))}
      </ul>
      {at && now.digest !== next.digest && (
        <p className="note">
          <Link to={at}>Compare the two images</Link>
        </p>
      )}
    </Section>
  );
}

const platforms = (i: Schema['ImageInView']) => i.platforms.map((x) => x.platform.replace('linux/', '')).join(', ');

/** Pair is one thing of both images; where they have it alike, it is said once. */
function Pair({ name, is, next }: { name: string; is: string | undefined; next: string | undefined }) {
  if (!is && !next) return null;
  return (
    <li>
      <span>{name}</span>
      <span>
        {is && is !== next && <span className="quiet">{is} → </span>}
        {next ?? '?'}
      </span>
    </li>
  );
}
