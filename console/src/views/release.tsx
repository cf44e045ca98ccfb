// Before a promotion or a roll back is asked for: the whole plan, and below it the words and the one button.
import { useMutation, useQuery } from '@tanstack/react-query';
import { useNavigate, useParams, useSearchParams } from 'react-router';
import { api, take, type Schema } from '../api/client';
import { Decision } from '../parts/decision';
import { Failed, Loading } from '../parts/states';
import { promotionPath } from '../parts/paths';
import { Amounts, Gates, Pair, Stays, Step, Tags, Waysides } from './plan';

type Plan = Schema['Plan'];

/** PromoteView plans the promotion of what stands in the environment before, or of what the address names. */
export function PromoteView() {
  const { component = '', environment = '' } = useParams();
  const [params] = useSearchParams();
  const chosen = {
    component,
    to: environment,
    ...(params.get('version') && { version: params.get('version')! }),
    ...(params.get('image') && { image: params.get('image')! }),
    ...(params.get('from') && { from: params.get('from')! }),
    ...(params.has('emergency') && { emergency: true }),
    ...(params.has('again') && { again: true }),
  };
  const plan = useQuery({
    queryKey: ['plan', 'promote', chosen],
    queryFn: () => take(api.POST('/api/v1/promotion-plans', { body: chosen })),
    retry: false,
  });
  const { version: _, ...rest } = chosen; // the image that the plan was shown of
  const ask = (p: Plan) => (because: string) =>
    take(api.POST('/api/v1/promotions', { body: { ...rest, image: p.digest, ...(p.from && { from: p.from }), because } }));
  return (
    <Release title={`Promote to ${environment}`} component={component} plan={plan} verb="Promote" ask={ask}>
      <Options />
    </Release>
  );
}

/** Options are the ways that are not the usual one. Each is part of the address. */
function Options() {
  const [params, set] = useSearchParams();
  const turn = (name: string) => {
    const next = new URLSearchParams(params);
    if (next.has(name)) next.delete(name);
    else next.set(name, 'yes');
    set(next, { replace: true });
  };
  const box = (name: string, says: string) => (
    <label className="option">
      <input type="checkbox" checked={params.has(name)} onChange={() => turn(name)} /> {says}
    </label>
  );
  return (
    <p className="note">
      {box('emergency', 'an emergency: freezes do not hold, others must agree, it is reviewed afterwards')}
      {box('again', 'again, although it was rolled back here')}
    </p>
  );
}

/** RollBackView plans a roll back to what stood before, or to a version, a digest or a time that is named. */
export function RollBackView() {
  const { component = '', environment = '' } = useParams();
  const [params, set] = useSearchParams();
  const to = params.get('to') ?? '';
  const plan = useQuery({
    queryKey: ['plan', 'roll back', component, environment, to],
    queryFn: () => take(api.POST('/api/v1/roll-back-plans', { body: { component, in: environment, ...(to && { to }) } })),
    retry: false,
  });
  const ask = (p: Plan) => (because: string) =>
    take(api.POST('/api/v1/roll-backs', { body: { component, in: environment, to: p.digest, because } }));
  return (
    <Release title={`Roll back in ${environment}`} component={component} plan={plan} verb="Roll back" ask={ask}>
      <form
        className="say wide-say"
        onSubmit={(e) => {
          e.preventDefault();
          const named = String(new FormData(e.currentTarget).get('to')).trim();
          set(named ? { to: named } : {}, { replace: true });
        }}
      >
        <label htmlFor="to">to</label>
        <input
          id="to"
          key={to}
          name="to"
          className="field"
          defaultValue={to}
          placeholder="what stood before"
          aria-describedby="to-what"
        />
        <button type="submit" className="btn">
          Plan it
        </button>
        <span id="to-what" className="note">
          or a version, a digest, a time (UTC)
        </span>
      </form>
    </Release>
  );
}

type ReleaseProps = {
  title: string;
  component: string;
  plan: { data: Plan | undefined; error: Error | null; isFetching: boolean; refetch: () => unknown };
  verb: string;
  ask: (p: Plan) => (because: string) => Promise<{ number: number }>;
  children: React.ReactNode;
};

function Release({ title, component, plan, verb, ask, children }: ReleaseProps) {
  const p = plan.data;
  return (
    <>
      <title>{`${title} · Dovrak`}</title>
      <section className="top">
        <div>
          <h1>{title}</h1>
          <p className="sum">
            <b>
              {component} {p?.version}
            </b>
            {p && <Waysides plan={p} />}
          </p>
          {children}
        </div>
        {p && <Pair plan={p} />}
      </section>
      {plan.error && <Failed error={plan.error} retry={() => void plan.refetch()} />}
      {!p && !plan.error && <Loading what="the plan: every place is asked" />}
      {p && !plan.error && <Steps p={p} verb={verb} ask={ask(p)} stale={plan.isFetching} />}
    </>
  );
}

function Steps({
  p,
  verb,
  ask,
  stale,
}: {
  p: Plan;
  verb: string;
  ask: (because: string) => Promise<{ number: number }>;
  stale: boolean;
}) {
  const go = useNavigate();
  const asked = useMutation({
    mutationFn: ask,
    onSuccess: (w) => void go(promotionPath(w.number)),
  });
  const open = p.gates.filter((g) => g.verdict !== 'holds' && !g.waived);
  const never = open.some((g) => !g.comes);
  return (
    <div className="release">
      <Step no={1} title="What moves" note={`by digest, from ${p.source}`}>
        <Amounts plan={p} />
      </Step>
      <Step no={2} title="Tags pointed" note="in all places as one step">
        <Tags plan={p} />
        <Stays plan={p} />
      </Step>
      <Step
        no={3}
        title="Gates"
        note={p.gates.length === 0 ? undefined : open.length === 0 ? 'all hold' : <b className={never ? 'refused' : 'waits'}>{open.length} open</b>}
      >
        {p.gates.length > 0 && <Gates of={p.gates} />}
        {p.gates.length === 0 && (
          <span className="quiet">{p.rollBack ? 'none is asked: it has stood here' : 'the charter sets none'}</span>
        )}
      </Step>
      <Step no={4} title={verb} note={!never && open.length > 0 && 'it waits, and goes on by itself'}>
        <Decision
          id="because"
          ways={[{ name: verb, tone: 'go', say: (because) => asked.mutateAsync(because) }]}
          stale={['standing', 'promotions', 'mine']}
          busy={stale}
        />
      </Step>
    </div>
  );
}
