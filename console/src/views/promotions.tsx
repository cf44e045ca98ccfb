// Promotions: what went from an environment to the next, and what waits for the one who looks.
import { useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, take } from '../api/client';
import { WorkState } from '../parts/build';
import { Inline } from '../parts/digest';
import { promotionPath } from '../parts/paths';
import { Section } from '../parts/section';
import { Empty, Failed, Loading } from '../parts/states';
import { Age } from '../parts/time';
import { Waysides } from './plan';

/** useMine is the promotions that wait for the one who looks. */
export const useMine = (on: boolean) =>
  useQuery({
    queryKey: ['mine'],
    queryFn: () => take(api.GET('/api/v1/promotions', { params: { query: { 'waits-for': 'me' } } })),
    enabled: on,
  });

/** Mine lists what waits for the one who looks, above all else. */
function Mine() {
  const mine = useMine(true);
  const items = mine.data?.items ?? [];
  if (items.length === 0) return null;
  return (
    <Section title="Waits for you" aside={<b className="waits">{items.length}</b>}>
      <ul className="mine">
        {items.map((p) => (
          <li key={p.number}>
            <Link to={promotionPath(p.number)}>
              <b>{p.number}</b> {p.component} <b>{p.version}</b> to {p.environment}
            </Link>
            <Waysides plan={p.plan} />
            <span className="quiet">
              <i>“{p.because}”</i>, {p.by}, <Age of={p.asked} /> ago
            </span>
          </li>
        ))}
      </ul>
    </Section>
  );
}

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
      <Mine />
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
                    {p.rollBack && <b> roll back</b>}
                    <Waysides plan={p.plan} />
                    {p.unreviewed && p.state === 'verified' && <b className="waits"> not reviewed</b>}
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
