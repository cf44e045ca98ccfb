// A promotion's page reads from top to bottom like a boarding checklist: what is asked, what each gate says, what moves, which tags are
// pointed, who agrees, how far it is, and the proof. Beside it: what changes, and what was there before.
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { api, queries, take, Problem, type Schema } from '../api/client';
import { WorkState } from '../parts/build';
import { Bytes, scaled } from '../parts/bytes';
import { componentPath, imagePath, promotionPath } from '../parts/paths';
import { Section } from '../parts/section';
import { Failed, Loading } from '../parts/states';
import { Age, Clock } from '../parts/time';
import { useWho } from '../parts/who';
import { Approvals, Changes, useProspect } from './approvals';
import { Happened } from './happened';
import { Amounts, Gates, Pair, Stays, Step, Tags, Waysides } from './plan';
import { Proof, Review } from './proof';

type Promotion = Schema['Promotion'];

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

/** named is what people call it. */
const named = (p: Promotion) => `${p.rollBack ? 'Roll back' : 'Promotion'} ${p.number}`;

function Page({ p }: { p: Promotion }) {
  const prospect = useProspect(p.number);
  return (
    <>
      <title>{`${named(p)} · Dovrak`}</title>
      <section className="top">
        <div>
          <h1>{named(p)}</h1>
          <p className="sum">
            <b>
              <Link className="plain" to={componentPath(p.component)}>
                {p.component}
              </Link>{' '}
              {p.version}
            </b>
            , {p.rollBack ? `back in ${p.environment}` : `${p.plan.from ? `${p.plan.from} ` : ''}to ${p.environment}`}.{' '}
            <WorkState state={p.state} />
            <Waysides plan={p.plan} />
            <Ways p={p} />
          </p>
        </div>
        <Pair plan={p.plan} done={p.state === 'verified'} />
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
          <Happened number={p.number} />
          <Before p={p} />
        </div>
      </div>
    </>
  );
}

const beforeSwitch = ['asked', 'judged', 'waiting', 'moving', 'ready'];
const canGoOn = ['split', 'taken back', 'stopped', 'failed'];

/** Ways are what whoever may can do to a promotion now: go on with it, end it, or take it back. */
function Ways({ p }: { p: Promotion }) {
  const may = useWho().data?.may.includes(p.rollBack ? 'roll-back' : 'promote') ?? false; // whether here, the service says
  const turn = useMutation({
    mutationFn: (on: boolean) => {
      const params = { path: { number: p.number } };
      return take(
        on ? api.POST('/api/v1/promotions/{number}/resume', { params }) : api.POST('/api/v1/promotions/{number}/stop', { params }),
      );
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ['promotion'] }),
  });
  if (!may) return null;
  const split = p.state === 'split';
  return (
    <>
      {canGoOn.includes(p.state) && (
        <button type="button" className="btn go" disabled={turn.isPending} onClick={() => turn.mutate(true)}>
          {split ? 'Go on' : 'Resume it'}
        </button>
      )}
      {(split || beforeSwitch.includes(p.state)) && (
        <button type="button" className="btn stop" disabled={turn.isPending} onClick={() => turn.mutate(false)}>
          {split ? 'Take it back' : 'Stop it'}
        </button>
      )}
      {turn.isError && (
        <span className="refused" role="alert">
          {' '}
          {turn.error.message}
        </span>
      )}
    </>
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
        <Review p={p} />
      </Step>
      <Step
        no={2}
        title="Gates"
        note={
          gates.length > 0 && (
            <>
              {gates.length - open} hold
              {open > 0 && (
                <b className={p.state === 'waiting' ? 'waits' : 'refused'}>
                  , {open} {p.state === 'waiting' ? (open === 1 ? 'waits' : 'wait') : open === 1 ? 'does not' : 'do not'}
                </b>
              )}
            </>
          )
        }
      >
        {gates.length > 0 && <Gates of={gates} />}
        {gates.length === 0 && (
          <span className="quiet">
            {p.rollBack ? 'A roll back is asked none: it has stood here.' : `The charter sets none for ${p.environment}.`}
          </span>
        )}
      </Step>
      <Step no={3} title="What moves" note={`by digest, ${places.length === 1 ? '1 place' : `${places.length} places`}`}>
        <Amounts plan={p.plan} />
      </Step>
      <Step no={4} title="Tags pointed" note="at the switch, last">
        <Tags plan={p.plan} done={done} />
        <Stays plan={p.plan} />
      </Step>
      <Step
        no={5}
        title="Approvals"
        later={!people}
        note={people && (people.verdict === 'holds' ? 'given' : <b className="waits">{p.ended ? 'not given' : 'waits'}</b>)}
      >
        {people ? (
          <Approvals p={p} gate={people} prospect={prospect} />
        ) : p.rollBack ? (
          'A roll back needs nobody else.'
        ) : (
          `The charter asks nobody for ${p.environment}.`
        )}
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
      <Step no={7} title={p.stands.length > 0 && !done ? 'What stands' : 'Proof'} later={p.stands.length === 0}>
        <Proof p={p} />
      </Step>
    </>
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
              <Link to={promotionPath(x.number)}>{x.number}</Link> {x.rollBack && 'back to '}
              {x.version}
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
