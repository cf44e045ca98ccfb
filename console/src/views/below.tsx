// Below the ledger of Standing: three short lists.
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take, type Standing, type TrailEntry } from '../api/client';
import { plain } from '../parts/act';
import { copyPath, promotionPath } from '../parts/paths';
import { Age, Clock } from '../parts/time';

/** Below the ledger: what is under way, what has drifted, and what happened last. */
export function Below({ s }: { s: Standing }) {
  const drifted = s.rows.flatMap((r) => r.cells.filter((c) => c.drift).map((c) => ({ ...c, component: r.component })));
  const open = s.rows.flatMap((r) => r.open.map((p) => ({ ...p, component: r.component })));
  const unreviewed = new Map(
    s.rows.flatMap((r) =>
      r.cells.filter((c) => c.unreviewed && c.promotion).map((c) => [c.promotion!, { ...c, component: r.component }]),
    ),
  );
  const copies = useQuery({
    queryKey: ['copies', 'latest'],
    queryFn: () => take(api.GET('/api/v1/copies', { params: { query: { limit: 20 } } })),
  });
  const moving = copies.data?.items.filter((c) => !c.ended) ?? [];
  return (
    <section className="below">
      <div>
        <h2>
          Under way <span>asked</span>
        </h2>
        <ul>
          {open.map((p) => (
            <li key={p.number}>
              <span>
                <Link to={promotionPath(p.number)}>
                  {p.rollBack ? 'roll back' : 'promotion'} {p.number}
                </Link>
                : {p.component} <b>{p.version}</b> {p.rollBack ? 'in' : 'to'} {p.environment}
                <br />
                <em>
                  {p.state === 'split' ? <b className="refused">split: its places mean different things</b> : p.state}, asked by {p.by}
                </em>
              </span>
              <span className="unit">
                <Age of={p.asked} />
              </span>
            </li>
          ))}
          {moving.map((c) => (
            <li key={`copy ${c.number}`}>
              <span>
                <Link to={copyPath(c.number)}>copy {c.number}</Link>: {c.from} to {c.places.map((p) => p.to).join(', ')}
                <br />
                <em>
                  {c.state}, asked by {c.by}
                </em>
              </span>
              <span className="unit">
                <Age of={c.asked} />
              </span>
            </li>
          ))}
        </ul>
        <ul>
          {[...unreviewed].map(([number, c]) => (
            <li key={number}>
              <span>
                <Link to={promotionPath(number)}>promotion {number}</Link>: {c.component} <b>{c.version}</b> went another way than usual
                <br />
                <em className="waits">to be reviewed</em>
              </span>
              <span className="unit">{c.since && <Age of={c.since} />}</span>
            </li>
          ))}
        </ul>
        {copies.isError && <p className="note refused">{copies.error.message}</p>}
        {open.length + moving.length + unreviewed.size === 0 && copies.data && (
          <p className="note">
            Nothing moves. <code>dovrak promote COMPONENT --to ENVIRONMENT</code>
          </p>
        )}
      </div>
      <div>
        <h2>
          Drift <span>seen</span>
        </h2>
        <ul>
          {drifted.map((c) => (
            <li key={`${c.component}-${c.registry}`}>
              <span>
                {c.component} <code>{c.tag}</code> at {c.registry} is not what Dovrak pointed it at
              </span>
              <span className="unit">{c.seen && <Clock of={c.seen} />}</span>
            </li>
          ))}
        </ul>
        {drifted.length === 0 && <p className="note">Every registry says what Dovrak decided.</p>}
      </div>
      <Latest />
    </section>
  );
}

function Latest() {
  const trail = useQuery({
    queryKey: ['trail', 'latest'],
    queryFn: () => take(api.GET('/api/v1/trail', { params: { query: { limit: 4 } } })),
  });
  return (
    <div>
      <h2>
        Trail <span>UTC</span>
      </h2>
      {trail.isError && <p className="note refused">{trail.error.message}</p>}
      <ul>
        {trail.data?.items.map((e) => (
          <li key={e.id}>
            <span>{story(e)}</span>
            <span className="unit">
              <Clock of={e.at} />
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}

/** story tells an entry in a line. */
function story(e: TrailEntry) {
  const f = e.facts;
  if (f['subject'] && f['to']?.startsWith('sha256:'))
    return (
      <>
        {e.by}: <code>{f['subject']}</code> {plain(e.act)}
      </>
    );
  if (e.act === 'promotion refused')
    return (
      <>
        {e.by}: {f['component']} to {f['environment']},{' '}
        <span className="refused" title={f['why']}>
          refused
        </span>
      </>
    );
  if (f['promotion'])
    return (
      <>
        {e.by}: {e.act.startsWith('roll back') ? 'roll back' : 'promotion'} {f['promotion']}, {f['component']} <b>{f['version']}</b>{' '}
        {e.act.startsWith('roll back') ? 'in' : 'to'} {f['environment']}, {plain(e.act)}
        {f['emergency'] && <b className="refused"> emergency</b>}
      </>
    );
  return (
    <>
      {e.by}: {e.act} {e.person ?? f['registry'] ?? f['token'] ?? f['version'] ?? f['subject'] ?? ''}
    </>
  );
}
