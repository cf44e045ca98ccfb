// The charter in words: by which rules images go their way, when there is none, and how it came to be so.
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { api, take, type Schema } from '../api/client';
import { Mark } from '../parts/marks';
import { charterPath } from '../parts/paths';
import { Section } from '../parts/section';
import { Empty, Failed, Loading } from '../parts/states';
import { Age, both, DAY, isoDay } from '../parts/time';
import { Proposals } from './proposals';

type Words = Schema['CharterInWords'];
type Environment = Schema['EnvironRules'];

export function CharterView() {
  const version = Number(useParams().version ?? 0);
  const charter = useQuery({
    queryKey: ['charter', 'words', version],
    queryFn: () => take(api.GET('/api/v1/charter/words', { params: { query: version ? { version } : {} } })),
  });
  if (!charter.data && charter.isError) {
    if (version === 0 && charter.error.message.includes('no charter yet'))
      return (
        <Empty title="There is no charter yet">
          Write one and adopt it: <code>dovrak charter adopt FILE</code>. Its keys are told in docs/charter.md.
        </Empty>
      );
    return <Failed error={charter.error} retry={() => void charter.refetch()} />;
  }
  if (!charter.data) return <Loading what="the charter" />;
  const c = charter.data;
  return (
    <>
      <title>{`Charter ${c.version} · Dovrak`}</title>
      <header className="head">
        <h1>Charter {c.version}</h1>
        <p className="note">
          {c.organisation}; adopted by <b>{c.by}</b> <Age of={c.adopted} /> ago
          {c.inForce ? ', in force' : <b className="waits">, not in force any more</b>}. People sign in {c.people}. Of the next charter,{' '}
          {c.adoption}.
        </p>
      </header>
      <Freezes c={c} />
      <div className="two">
        <div>
          {c.environments.map((e) => (
            <Rules key={e.name} e={e} />
          ))}
        </div>
        <div>
          <Proposals />
          <Versions c={c} />
          <Groups c={c} />
          <Routes c={c} />
        </div>
      </div>
    </>
  );
}

/** Freezes is a strip of the coming weeks: when there is no promotion. */
function Freezes({ c }: { c: Words }) {
  const rows = c.environments.flatMap((e) => e.freezes.map((f) => ({ env: e.name, ...f })));
  if (rows.length === 0) return null;
  const from = new Date(c.from).getTime();
  const span = new Date(c.to).getTime() - from;
  const at = (t: string | number) => `${(100 * (new Date(t).getTime() - from)) / span}%`;
  const weeks = [];
  const now = new Date(c.now).getTime();
  for (let t = Math.ceil(from / DAY) * DAY; t < from + span - 4 * DAY; t += DAY) {
    if (new Date(t).getUTCDay() === 1 && (t < now - 4 * DAY || t > now + 3 * DAY)) weeks.push(t); // the word now stands there
  }
  return (
    <section className="strip" aria-label="Freezes in the coming weeks">
      <div className="strip-head">
        <span className="lab">freezes</span>
        <span className="time">
          {weeks.map((t) => (
            <span key={t} className="week" style={{ left: at(t) }}>
              {new Date(t).toLocaleDateString('en-GB', { day: 'numeric', month: 'short', timeZone: 'UTC' })}
            </span>
          ))}
          <span className="today" style={{ left: at(c.now) }}>
            now
          </span>
        </span>
      </div>
      {rows.map((f) => (
        <div key={f.env + f.name} className="strip-row">
          <span className="lab">
            <b>{f.env}</b> {f.name}
            <span className="sr">: {f.when}</span>
          </span>
          <span className="time">
            {f.spans.map((s) => (
              <span
                key={s.from}
                className="frozen"
                title={`${f.name}\n${both(new Date(s.from))}\nto ${both(new Date(s.to))}`}
                style={{ left: at(s.from), width: `calc(${at(s.to)} - ${at(s.from)})` }}
              />
            ))}
            <span className="today" style={{ left: at(c.now) }} />
            {f.spans.length === 0 && <i className="quiet">not in these weeks: {f.when}</i>}
          </span>
        </div>
      ))}
    </section>
  );
}

function Rules({ e }: { e: Environment }) {
  const first = e.comes === 'from pipelines';
  return (
    <section className="rules">
      <h2>
        {e.name} <span>{e.comes}</span>
      </h2>
      <dl>
        <dt>places</dt>
        <dd>
          {e.places.map((p) => (
            <code key={p}>{p}</code>
          ))}
        </dd>
        <dt>tags</dt>
        <dd className="wrap">
          {e.tags.map((t) => (
            <Tag key={t} says={t} />
          ))}
        </dd>
        {!first && (
          <>
            <dt>promoted by</dt>
            <dd>{e.promote}</dd>
            <dt>gates</dt>
            <dd>
              {e.gates.map((g) => (
                <span key={g.name} className="block">
                  <Mark name="holds" /> {g.asks}
                  {g.name !== g.asks && <i className="quiet"> ({g.name})</i>}
                </span>
              ))}
              {e.gates.length === 0 && <span className="quiet">none</span>}
            </dd>
            <dt>approvals</dt>
            <dd>{e.approvals}</dd>
            <dt>emergencies</dt>
            <dd>{e.emergency ?? <span className="quiet">no rule knows of them: freezes and gates hold for all</span>}</dd>
            {e.skipping && (
              <>
                <dt>skipping</dt>
                <dd>{e.skipping}</dd>
              </>
            )}
            <dt>rolled back by</dt>
            <dd>{e.rollBack}</dd>
            <dt>switch</dt>
            <dd>{e.switch}</dd>
            <dt>waits</dt>
            <dd>at most {e.waits}</dd>
          </>
        )}
      </dl>
    </section>
  );
}

/** Tag is a rule for a tag: the tag, and what it does; or a sentence of all others. */
function Tag({ says }: { says: string }) {
  if (/^(no|any) other/.test(says)) return <span className="rule quiet">{says}</span>;
  const [tag, ...rest] = says.split(' ');
  return (
    <span className="rule">
      <code>{tag}</code> {rest.join(' ')}
    </span>
  );
}

function Versions({ c }: { c: Words }) {
  const list = useQuery({
    queryKey: ['charter', 'versions'],
    queryFn: () => take(api.GET('/api/v1/charter/versions', { params: { query: { limit: 8 } } })),
  });
  return (
    <>
      <Section title="What it changed" aside={`charter ${c.version}`}>
        <ul className="pairs">
          {c.changes.map((line) => (
            <li key={line}>
              <span>{line}</span>
            </li>
          ))}
        </ul>
        {c.changes.length === 0 && <p className="note">{c.version === 1 ? 'It is the first.' : 'Nothing but its wording.'}</p>}
      </Section>
      <Section title="Versions">
        {list.isError && <p className="note refused">{list.error.message}</p>}
        <ul className="pairs">
          {list.data?.items.map((v) => (
            <li key={v.version}>
              <span>
                {v.version === c.version ? <b>{v.version}</b> : <Link to={charterPath(v.version)}>{v.version}</Link>} {v.by}
              </span>
              <span className="unit" title={both(new Date(v.adopted))}>
                {isoDay(new Date(v.adopted))}, <Age of={v.adopted} /> ago
              </span>
            </li>
          ))}
        </ul>
      </Section>
    </>
  );
}

function Groups({ c }: { c: Words }) {
  return (
    <Section title="Groups">
      <ul className="pairs">
        {c.groups.map((g) => (
          <li key={g.name}>
            <span>
              <b>{g.name}</b> <span className="quiet">{[...g.members, ...g.claims.map((x) => `“${x}” at the issuer`)].join(', ')}</span>
            </span>
            <span className="unit">{g.may.join(', ')}</span>
          </li>
        ))}
      </ul>
      {c.groups.length === 0 && <p className="note">None: tokens alone say who may what.</p>}
    </Section>
  );
}

function Routes({ c }: { c: Words }) {
  return (
    <Section title="Components">
      <ul className="pairs">
        {c.components.map((x) => (
          <li key={x.name}>
            <span>
              <b>{x.name}</b> <span className="quiet">{x.platforms.map((p) => p.replace('linux/', '')).join(', ')}</span>
            </span>
            <span className="unit">{c.routes.find((r) => r.name === x.route)?.environments.join(' → ')}</span>
          </li>
        ))}
      </ul>
    </Section>
  );
}
