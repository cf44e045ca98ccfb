// Charters that wait for people to agree: what each would change, and the decision of who may.
import { useQuery } from '@tanstack/react-query';
import { api, take, type Schema } from '../api/client';
import { Decision, yesOrNo } from '../parts/decision';
import { Section } from '../parts/section';
import { Age } from '../parts/time';

export function Proposals() {
  const list = useQuery({
    queryKey: ['charter', 'proposals'],
    queryFn: () => take(api.GET('/api/v1/charter/proposals', { params: { query: { limit: 5 } } })),
  });
  const waiting = list.data?.items.filter((p) => p.state === 'waiting') ?? [];
  if (waiting.length === 0) return null;
  return (
    <Section title="Proposed" aside={<b className="waits">{waiting.length}</b>}>
      {waiting.map((p) => (
        <Proposal key={p.number} p={p} />
      ))}
    </Section>
  );
}

function Proposal({ p }: { p: Schema['Proposal'] }) {
  const whole = useQuery({
    queryKey: ['charter', 'proposal', p.number],
    queryFn: () => take(api.GET('/api/v1/charter/proposals/{number}', { params: { path: { number: p.number } } })),
  });
  const say = (agreed: boolean, remark: string) => {
    const params = { path: { number: p.number } };
    const body = { remark };
    return take(
      agreed
        ? api.POST('/api/v1/charter/proposals/{number}/approve', { params, body })
        : api.POST('/api/v1/charter/proposals/{number}/decline', { params, body }),
    );
  };
  return (
    <div className="proposal">
      <p className="note">
        <b>{p.number}</b> by {p.by}, <Age of={p.asked} /> ago{p.because && <i>: “{p.because}”</i>}
      </p>
      <ul className="pairs">
        {whole.data?.changes.map((line) => (
          <li key={line}>
            <span>{line}</span>
          </li>
        ))}
      </ul>
      <p className="note">{whole.data?.agreed}</p>
      {whole.data?.maySay ? (
        <Decision id={`remark-${p.number}`} ways={yesOrNo(say)} stale={['charter']} />
      ) : (
        <p className="note">{whole.data?.whyNot}</p>
      )}
    </div>
  );
}
