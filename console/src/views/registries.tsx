// Registries: what each is, how Dovrak signs in, and what it was last seen to permit, step by step.
import { useState } from 'react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useParams } from 'react-router';
import { api, queries, take, type Schema } from '../api/client';
import { Bytes } from '../parts/bytes';
import { Mark } from '../parts/marks';
import { tagsPath } from '../parts/paths';
import { failing, useRegistries } from '../parts/registry';
import { Section } from '../parts/section';
import { Empty, Failed, Loading } from '../parts/states';
import { Age } from '../parts/time';
import { ConnectDialog, DropDialog } from './connect';

type Registry = Schema['Registry'];
type Check = Schema['RegistryCheck'];

export function RegistriesView() {
  const { name } = useParams();
  const all = useRegistries();
  if (!all.data && all.isError) return <Failed error={all.error} retry={() => void all.refetch()} />;
  if (!all.data) return <Loading what="the registries" />;
  const one = all.data.items.find((r) => r.name === name);
  return (
    <>
      <title>Registries · Dovrak</title>
      <header className="head">
        <h1>Registries</h1>
        <p className="note">
          <b>{all.data.items.length}</b> connected. <ConnectDialog />
        </p>
      </header>
      {all.data.items.length === 0 ? (
        <Empty title="No registry is connected yet">
          Connect one above, or <code>dovrak registry add NAME --address URL</code>
        </Empty>
      ) : (
        <List all={all.data.items} chosen={name} />
      )}
      {one && <One key={one.name} r={one} />}
      {name && !one && (
        <Empty title={`No registry is connected as “${name}”`}>
          <Link to="/registries">All registries</Link>
        </Empty>
      )}
    </>
  );
}

function List({ all, chosen }: { all: Registry[]; chosen: string | undefined }) {
  return (
    <div className="scroll" tabIndex={0} role="region" aria-label="Registries">
      <table className="lines">
        <thead>
          <tr>
            <th scope="col">registry</th>
            <th scope="col">address</th>
            <th scope="col">signs in</th>
            <th scope="col">trust</th>
            <th scope="col">limits</th>
            <th scope="col">labels</th>
            <th scope="col">last check</th>
          </tr>
        </thead>
        <tbody>
          {all.map((r) => (
            <tr key={r.name} aria-current={r.name === chosen ? 'true' : undefined}>
              <th scope="row">
                <Link to={`/registries/${r.name}`}>
                  <b>{r.name}</b>
                </Link>
              </th>
              <td>
                <code>{r.address}</code>
              </td>
              <td>{signsIn(r)}</td>
              <td>
                <Trust r={r} />
              </td>
              <td className="unit">
                {r.requestsPerSecond} a second, {r.transfersAtOnce} at once
                {r.bytesPerSecond > 0 && (
                  <>
                    , <Bytes n={r.bytesPerSecond} /> a second
                  </>
                )}
              </td>
              <td className="unit">
                {Object.entries(r.labels)
                  .map(([k, v]) => `${k} ${v}`)
                  .join(', ')}
              </td>
              <td>
                <Verdict c={r.checks[0]} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function signsIn(r: Registry) {
  if (r.secretSource) return `by source ${r.secretSource}`;
  if (r.account) return `as ${r.account}`;
  return <i>without a credential</i>;
}

function Trust({ r }: { r: Registry }) {
  if (r.exception)
    return (
      <span className="refused">
        <Mark name="refused" /> {r.exception.counts ? 'unchecked' : 'was unchecked'}, {r.exception.owner}, until{' '}
        {r.exception.until.slice(0, 10)}
      </span>
    );
  if (r.address.startsWith('http:')) return <span className={r.plain ? 'waits' : 'unit'}>plain HTTP</span>;
  return (
    <>
      {r.ownCA ? 'own CA' : 'system'}
      {r.clientCert && ', client certificate'}
    </>
  );
}

function Verdict({ c }: { c: Check | undefined }) {
  if (!c) return <span className="waits">never</span>;
  const bad = failing(c);
  return (
    <>
      {bad ? (
        <span className="refused">
          <Mark name="refused" /> {bad.name} fails
        </span>
      ) : (
        <>
          <Mark name="holds" /> nothing fails
        </>
      )}{' '}
      <span className="unit">
        <Age of={c.at} />
      </span>
    </>
  );
}

/** One is a registry's own part: its checks, the newest of each repository, and where Dovrak may write. */
function One({ r }: { r: Registry }) {
  const go = useNavigate();
  const places = useQuery({ queryKey: ['destinations'], queryFn: () => take(api.GET('/api/v1/destinations')) });
  const here = (places.data?.items ?? []).filter((d) => d.repository.startsWith(`${r.name}/`));
  const [chosen, choose] = useState(r.checks[0]?.repository ?? '');
  const [deletion, withDeletion] = useState(false);
  const check = useMutation({
    mutationFn: ({ repository, deletion }: { repository: string; deletion: boolean }) =>
      take(
        api.POST('/api/v1/registries/{name}/checks', {
          params: { path: { name: r.name } },
          body: { ...(repository && { repository }), ...(deletion && { for: ['pull', 'push', 'delete'] }) },
        }),
      ),
    onSuccess: (c) => {
      choose(c.repository ?? '');
      return queries.invalidateQueries({ queryKey: ['registries'] });
    },
  });
  const names = [
    ...new Set([...r.checks.map((c) => c.repository ?? ''), ...here.map((d) => d.repository.slice(r.name.length + 1))]),
  ].filter(Boolean);
  const shown = r.checks.find((c) => (c.repository ?? '') === chosen) ?? r.checks[0];
  return (
    <div className="two registry">
      <Section
        title={`Check of ${r.name}`}
        aside={
          shown && (
            <>
              {shown.repository ? `in ${shown.repository}` : 'in no repository'}, <Age of={shown.at} /> ago
            </>
          )
        }
      >
        <p className="filters">
          <label>
            in{' '}
            <select className="field" value={chosen} onChange={(e) => choose(e.target.value)}>
              {names.length === 0 && <option value="">no repository</option>}
              {names.map((n) => (
                <option key={n}>{n}</option>
              ))}
            </select>
          </label>
          <label>
            <input type="checkbox" checked={deletion} onChange={(e) => withDeletion(e.target.checked)} /> deletion, too
          </label>
          <button
            type="button"
            className="btn"
            disabled={check.isPending}
            onClick={() => check.mutate({ repository: chosen, deletion })}
          >
            {check.isPending ? 'Checking …' : 'Check now'}
          </button>
        </p>
        {check.isError && <Failed error={check.error} />}
        {shown && (shown.repository ?? '') === (chosen || (shown.repository ?? '')) ? (
          <Steps c={shown} />
        ) : (
          <p className="note">Not checked here yet.</p>
        )}
      </Section>
      <div>
        <Section title="Where Dovrak may write" aside={here.length || undefined}>
          <ul className="pairs">
            {here.map((d) => (
              <li key={d.repository}>
                <Link to={tagsPath(d.repository)}>{d.repository.slice(r.name.length + 1)}</Link>
                <span className="unit">
                  {d.environment || `declared by ${d.by}, ${d.owner}`}
                  {d.public && ', public'}
                  {d.there === false && ', not there yet'}
                </span>
              </li>
            ))}
          </ul>
          {places.isSuccess && here.length === 0 && <p className="note">Nowhere: the charter names no place here.</p>}
        </Section>
        <Section title="Connection">
          <p className="filters">
            <ConnectDialog edit={r} />
            <DropDialog name={r.name} gone={() => void go('/registries')} />
          </p>
          <p className="note">
            Connected <Age of={r.connected} /> ago, changed <Age of={r.edited} /> ago.{' '}
            {r.signInHosts.length > 0 && `Signs in at ${r.signInHosts.join(', ')}.`}
          </p>
        </Section>
      </div>
    </div>
  );
}

function Steps({ c }: { c: Check }) {
  return (
    <table className="lines steps">
      <tbody>
        {c.steps.map((s) => (
          <tr key={s.name}>
            <th scope="row">{s.name}</th>
            <td className={s.result === 'fails' ? 'refused' : s.result === 'holds' ? '' : 'quiet'}>
              {s.result === 'holds' && <Mark name="holds" />}
              {s.result === 'fails' && <Mark name="refused" />} {s.result}
            </td>
            <td>
              {s.seen}
              {s.remedy && s.result === 'fails' && (
                <>
                  <br />
                  <i>{s.remedy}</i>
                </>
              )}
            </td>
            <td className="num unit">{s.result !== 'not tried' && s.micros > 0 && `${(s.micros / 1000).toFixed(1)} ms`}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
