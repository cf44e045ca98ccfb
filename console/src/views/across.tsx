// One component's tags side by side in all its places: same, differs, only here, lacking.
import { useQuery } from '@tanstack/react-query';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, take, type Schema } from '../api/client';
import { Inline } from '../parts/digest';
import { Mark } from '../parts/marks';
import { comparePath, imagePath, tagsPath } from '../parts/paths';
import { RegistryNote } from '../parts/registry';
import { Empty, Failed, Loading } from '../parts/states';
import { Age } from '../parts/time';

type Across = Schema['Across'];
type Row = Schema['AcrossRow'];

const isGap = (r: Row) => r.verdict !== 'same' && !r.exception;

export function AcrossView() {
  const component = useParams().component ?? '';
  const [params, setParams] = useSearchParams();
  const gaps = params.get('gaps') !== null;
  const across = useQuery({
    queryKey: ['across', component],
    queryFn: () => take(api.GET('/api/v1/tags/across', { params: { query: { component } } })),
  });
  if (!across.data && across.isError) return <Failed error={across.error} retry={() => void across.refetch()} />;
  if (!across.data) return <Loading what={`the tags of ${component} in all its places`} />;
  const x = across.data;
  const found = x.rows.filter(isGap);
  const rows = gaps ? found : x.rows;
  return (
    <>
      <title>{`${component} across · Dovrak`}</title>
      <header className="head">
        <h1>{component}</h1>
        <p className="note">
          <b>{x.rows.length}</b> tags in <b>{x.places.length}</b> places;{' '}
          {found.length > 0 ? (
            <button type="button" className="text-btn" onClick={() => setParams(gaps ? {} : { gaps: '' }, { replace: true })}>
              {gaps ? 'show all' : `${found.length} not the same everywhere`}
            </button>
          ) : (
            'the same everywhere, or meant not to be'
          )}
          ; its <Link to={`/history/${component}`}>history</Link>
        </p>
      </header>
      {rows.length === 0 ? (
        <Empty title="No tag in any place">A pipeline’s push to the first place fills it.</Empty>
      ) : (
        <Table x={x} rows={rows} />
      )}
      {x.exceptions.length > 0 && (
        <ul className="note">
          {x.exceptions.map((e) => (
            <li key={e.number}>
              exception {e.number}: <code>{e.pattern}</code> need not be the same in {e.place || 'every place'}; {e.by}: {e.because}
            </li>
          ))}
        </ul>
      )}
    </>
  );
}

function Table({ x, rows }: { x: Across; rows: Row[] }) {
  return (
    <div className="scroll" tabIndex={0} role="region" aria-label="Tags in all places">
      <table className="lines">
        <thead>
          <tr>
            <th scope="col">tag</th>
            <th scope="col" />
            {x.places.map((p) => (
              <th scope="col" key={p.repository}>
                <Link to={tagsPath(p.repository)}>{p.repository}</Link>
                {(p.registry.fails || p.registry.exception) && (
                  <>
                    {' '}
                    <RegistryNote mark={p.registry} />
                  </>
                )}
                <br />
                <span className="unit">
                  {p.environment},{' '}
                  {p.problem ? (
                    <span className="refused">not seen now</span>
                  ) : p.seen ? (
                    <>
                      seen <Age of={p.seen} /> ago
                    </>
                  ) : (
                    'nothing there yet'
                  )}
                </span>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => (
            <tr key={r.tag}>
              <th scope="row">
                <b>{r.tag}</b>
              </th>
              <td>
                <Verdict x={x} row={r} />
              </td>
              {r.cells.map((c, i) => (
                <td key={x.places[i]!.repository}>
                  {c.digest ? (
                    <>
                      <Inline digest={c.digest} />{' '}
                      <Link className="sr-like" to={imagePath(`${x.places[i]!.repository}:${r.tag}`)}>
                        look
                      </Link>
                    </>
                  ) : (
                    <span className="quiet">–</span>
                  )}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Verdict({ x, row }: { x: Across; row: Row }) {
  if (row.verdict === 'same')
    return (
      <span className="quiet">
        <Mark name="same" /> same
      </span>
    );
  if (row.exception)
    return (
      <span className="quiet">
        {row.verdict}, meant so ({row.exception})
      </span>
    );
  const at = row.cells.flatMap((c, i) => (c.digest ? [{ digest: c.digest, ref: `${x.places[i]!.repository}:${row.tag}` }] : []));
  const other = at.find((c) => c.digest !== at[0]!.digest);
  return (
    <span className={row.verdict === 'differs' ? 'drift' : 'waits'}>
      <Mark name={row.verdict === 'differs' ? 'drift' : 'waits'} /> <b>{row.verdict}</b>
      {row.platforms.length > 0 && <> {row.platforms.map((p) => p.replace('linux/', '')).join(', ')} not everywhere</>}
      {row.since && (
        <>
          , for <Age of={row.since} />
        </>
      )}
      {other && (
        <>
          {' '}
          <Link to={comparePath(at[0]!.ref, other.ref)}>compare</Link>
        </>
      )}
    </span>
  );
}
