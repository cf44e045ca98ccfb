// What was looked for: one image lands on its page, several are listed.
import { useQuery } from '@tanstack/react-query';
import { Link, Navigate, useSearchParams } from 'react-router';
import { api, take, type Schema } from '../api/client';
import { BuildState } from '../parts/build';
import { Bytes } from '../parts/bytes';
import { Inline } from '../parts/digest';
import { buildPath, componentPath, imagePath, tagsPath } from '../parts/paths';
import { Section } from '../parts/section';
import { Failed, Loading } from '../parts/states';
import { Age } from '../parts/time';

export function FindView() {
  const [params] = useSearchParams();
  const what = params.get('what') ?? '';
  const found = useQuery({
    queryKey: ['where', what],
    queryFn: () => take(api.GET('/api/v1/where', { params: { query: { what } } })),
    enabled: what !== '',
  });
  if (found.isError) return <Failed error={found.error} retry={() => void found.refetch()} />;
  if (!found.data) return <Loading what={what} />;
  const w = found.data;
  const [build, ...builds] = w.builds;
  if (build && builds.length === 0) return <Navigate to={buildPath(build.component, build.number)} replace />;
  const first = w.items[0];
  if (w.as.includes('component') && first?.component === what) return <Navigate to={componentPath(what)} replace />;
  if (w.as.includes('repository')) return <Navigate to={tagsPath(what)} replace />;
  if (!build && first && w.items.every((i) => i.digest === first.digest))
    return <Navigate to={imagePath(`${first.repository}@${first.digest}`)} replace />;
  return (
    <>
      <title>{`${what} · Dovrak`}</title>
      <header className="head">
        <h1>{what}</h1>
        <p className="note">
          taken for a {w.as.join(', a ')}; {w.items.length}
          {w.more && ' and more'} found in what was seen
        </p>
      </header>
      {build && <FoundBuilds builds={w.builds} />}
      {first && <Found items={w.items} />}
    </>
  );
}

/** FoundBuilds lists builds by component and number. */
function FoundBuilds({ builds }: { builds: Schema['BuildRef'][] }) {
  return (
    <Section title="Builds" aside={builds.length}>
      <table className="lines">
        <tbody>
          {builds.map((b) => (
            <tr key={`${b.component}/${b.number}`}>
              <th scope="row">
                <Link to={buildPath(b.component, b.number)}>
                  {b.component} <b>{b.number}</b>
                </Link>
              </th>
              <td>{b.version}</td>
              <td>{b.digest ? <Inline digest={b.digest} /> : <span className="quiet">no image yet</span>}</td>
              <td>
                {b.branch} <code>{b.commit.slice(0, 12)}</code>
              </td>
              <td>
                <BuildState build={b} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Section>
  );
}

/** Found lists tags, and digests without one, in their repositories. */
export function Found({ items }: { items: Schema['WhereItem'][] }) {
  return (
    <div className="scroll" tabIndex={0} role="region" aria-label="What was found">
      <table className="lines">
        <thead>
          <tr>
            <th scope="col">image</th>
            <th scope="col">version</th>
            <th scope="col">commit</th>
            <th scope="col">where</th>
            <th scope="col">tag</th>
            <th scope="col" className="num">
              size
            </th>
            <th scope="col" className="num">
              seen
            </th>
          </tr>
        </thead>
        <tbody>
          {items.map((i) => (
            <tr key={`${i.repository}:${i.tag ?? ''}@${i.digest}`}>
              <td>
                <Inline digest={i.digest} />
              </td>
              <td>{i.version}</td>
              <td>
                <code>{i.revision?.slice(0, 12)}</code>
              </td>
              <td>
                <Link to={tagsPath(i.repository)}>{i.repository}</Link>
                {i.origin && <span className="unit"> from {i.origin}</span>}
              </td>
              <td>
                <Link to={imagePath(`${i.repository}${i.tag ? `:${i.tag}` : `@${i.digest}`}`)}>{i.tag ?? 'no tag'}</Link>
                {i.stands && <b> stands in {i.environment}</b>}
              </td>
              <td className="num">
                <Bytes n={i.size} />
              </td>
              <td className="num unit">
                <Age of={i.seen} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
