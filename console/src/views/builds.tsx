// Builds, newest first: of all components, or of one with the rules of its tags. Parts are seen to arrive.
import { useQuery } from '@tanstack/react-query';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, take, type Schema } from '../api/client';
import { Awaited, BuildState, Commit } from '../parts/build';
import { Inline } from '../parts/digest';
import { Mark } from '../parts/marks';
import { acrossPath, buildPath, buildsPath, imagePath } from '../parts/paths';
import { Section } from '../parts/section';
import { Empty, Failed, Loading } from '../parts/states';
import { Age } from '../parts/time';

type Build = Schema['Build'];

export function BuildsView() {
  const { component = '' } = useParams();
  const [params, setParams] = useSearchParams();
  const promised = params.has('promised');
  const before = params.get('before') ?? '';
  const list = useQuery({
    queryKey: ['builds', component, promised, before],
    queryFn: () =>
      take(
        api.GET('/api/v1/builds', {
          params: { query: { limit: 50, ...(component && { component }), ...(promised && { promised }), ...(before && { before }) } },
        }),
      ),
  });
  if (!list.data && list.isError) return <Failed error={list.error} retry={() => void list.refetch()} />;
  if (!list.data) return <Loading what={component ? `the builds of ${component}` : 'builds'} />;
  const { items, next } = list.data;
  const open = items.filter((b) => b.state === 'open' || b.state === 'incomplete').length;
  return (
    <>
      <title>{`${component ? `Builds of ${component}` : 'Builds'} · Dovrak`}</title>
      <header className="head">
        <h1>{component || 'Builds'}</h1>
        <p className="note">
          {component ? 'Its builds' : 'What pipelines reported'}, newest first
          {open > 0 && (
            <>
              ; <b>{open}</b> {open === 1 ? 'awaits' : 'await'} parts
            </>
          )}
          {component && (
            <>
              ; <Link to={acrossPath(component)}>its tags in every place</Link>, <Link to="/builds">all builds</Link>
            </>
          )}
        </p>
      </header>
      <form className="filters">
        <label>
          <input
            type="checkbox"
            checked={promised}
            onChange={(e) => setParams(e.target.checked ? { promised: '' } : {}, { replace: true })}
          />{' '}
          only versions that were promised and have no image yet
        </label>
      </form>
      {items.length === 0 ? (
        <Empty title={promised ? 'No promise is open' : 'No build was reported yet'}>
          {promised ? (
            'Every version that a build was to be has its image.'
          ) : (
            <>
              A pipeline reports one: <code>dovrak build start --component {component || 'COMPONENT'} --number N …</code>
            </>
          )}
        </Empty>
      ) : (
        <Table builds={items} whole={!component} />
      )}
      {next && (
        <p className="note">
          <Link to={`?${new URLSearchParams({ ...(promised && { promised: '' }), before: next })}`}>older ones</Link>
        </p>
      )}
      {component && <Rules component={component} />}
    </>
  );
}

function Table({ builds, whole }: { builds: Build[]; whole: boolean }) {
  return (
    <div className="scroll" tabIndex={0} role="region" aria-label="Builds">
      <table className="lines builds">
        <thead>
          <tr>
            <th scope="col">build</th>
            <th scope="col">version</th>
            <th scope="col">image</th>
            <th scope="col">parts</th>
            <th scope="col">tags it earned</th>
            <th scope="col">branch, commit</th>
            <th scope="col" className="num">
              reported
            </th>
          </tr>
        </thead>
        <tbody>
          {builds.map((b) => (
            <tr key={`${b.component}/${b.number}`}>
              <th scope="row">
                <Link to={buildPath(b.component, b.number)}>
                  {whole && `${b.component} `}
                  <b>{b.number}</b>
                </Link>
                <BuildState build={b} />
              </th>
              <td>
                {b.version}
                {b.promise && !b.promise.keptBy && b.promise.tries > 0 && (
                  <span className="refused block">
                    <Mark name="refused" /> {b.promise.tries} failed
                  </span>
                )}
              </td>
              <td>{b.digest ? <Inline digest={b.digest} /> : <span className="quiet">none yet</span>}</td>
              <td>
                <Parts build={b} />
              </td>
              <td>
                <Tags build={b} />
              </td>
              <td>
                {b.branch}
                <br />
                <Commit of={b} />
                {b.link && (
                  <>
                    {' '}
                    <a href={b.link} rel="noreferrer">
                      run
                    </a>
                  </>
                )}
              </td>
              <td className="num unit">
                <Age of={b.reported} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** bare is a platform without the system that nearly all have. */
const bare = (platform: string) => platform.replace('linux/', '');

/** Parts names each platform with whether its part is in. */
function Parts({ build }: { build: Build }) {
  return (
    <ul className="arrivals">
      {build.parts.map((p) => (
        <li key={p.platform}>
          <Mark name="holds" /> {bare(p.platform)}
        </li>
      ))}
      {build.missing.map((m) => (
        <li key={m} className="waits">
          <Mark name="waits" /> {bare(m)}
        </li>
      ))}
    </ul>
  );
}

function Tags({ build }: { build: Build }) {
  const has = build.tags.filter((t) => t.outcome === 'points').map((t) => t.tag);
  const stays = build.tags.filter((t) => t.outcome === 'stays').map((t) => t.tag);
  return (
    <>
      {[...new Set(has)].map((t) => (
        <Link key={t} className="tag-word" to={imagePath(`${build.places[0]}:${t}`)}>
          {t}
        </Link>
      ))}
      {stays.length > 0 && <span className="unit"> not {[...new Set(stays)].join(', ')}</span>}
      {has.length === 0 && stays.length === 0 && <Awaited build={build} />}
    </>
  );
}

/** Rules says in words which tags there are, and what each would be for the newest build. */
export function Rules({ component }: { component: string }) {
  const rules = useQuery({
    queryKey: ['rules', component],
    queryFn: () => take(api.GET('/api/v1/components/{name}/tag-rules', { params: { path: { name: component } } })),
  });
  if (rules.isError) return <Failed error={rules.error} retry={() => void rules.refetch()} />;
  if (!rules.data) return <Loading what="the rules of its tags" />;
  const r = rules.data;
  return (
    <div className="mt-6">
      <Section title="Rules of its tags" aside={r.newest ? `tried on build ${r.newest}` : 'there is no build yet to try them on'}>
        <table className="lines">
          <thead>
            <tr>
              <th scope="col">in</th>
              <th scope="col">rule</th>
              <th scope="col">template</th>
              <th scope="col">{r.newest ? `for build ${r.newest}` : 'for a build'}</th>
              <th scope="col">what it means</th>
            </tr>
          </thead>
          <tbody>
            {r.items.map((i, n) => (
              <tr key={`${i.environment} ${i.kind} ${i.template ?? ''}`}>
                <th scope="row">{i.environment !== r.items[n - 1]?.environment && <b>{i.environment}</b>}</th>
                <td>{i.kind === 'unruled' || i.kind === 'other' ? 'any other' : i.kind}</td>
                <td>
                  <code>{i.template}</code>
                </td>
                <td>{i.tag ? <b>{i.tag}</b> : <span className="unit">{i.why}</span>}</td>
                <td className={i.kind === 'unruled' ? 'refused' : ''}>{i.words}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Section>
      <p className="note">
        <Link to={buildsPath(component)}>Builds of {component}</Link>. The charter says these rules.
      </p>
    </div>
  );
}
