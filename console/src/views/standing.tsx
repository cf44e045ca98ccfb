// Standing: components down, environments and their places across. What stands where, as each registry last said.
import { useEffect, useRef } from 'react';
import { useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, take, type Cell, type Row, type Schema, type Standing } from '../api/client';
import { WorkState } from '../parts/build';
import { Plate } from '../parts/digest';
import { Mark } from '../parts/marks';
import { acrossPath, componentPath, imagePath, promotePath, promotionPath, rollBackPath } from '../parts/paths';
import { failing, useRegistries } from '../parts/registry';
import { Empty, Failed, Loading } from '../parts/states';
import { Age, age, Clock, clock, longDay, SECOND, useNow } from '../parts/time';
import { useWho } from '../parts/who';
import { Below } from './below';
import { Panorama } from './panorama';

type Gap = Schema['StandingGap'];

export const useStanding = (on = true) =>
  useQuery({ queryKey: ['standing'], queryFn: () => take(api.GET('/api/v1/standing')), enabled: on });

/** From so many components on, rows are low. */
const MANY = 12;

export function StandingView() {
  const standing = useStanding();
  const [params, setParams] = useSearchParams();
  const find = params.get('find') ?? '';
  const s = standing.data; // what was last heard stays; the foot tells when the connection is lost
  if (!s && standing.isError) return <Failed error={standing.error} retry={() => void standing.refetch()} />;
  if (!s) return <Loading what="what stands" />;
  const rows = s.rows.filter((r) => r.component.includes(find.trim().toLowerCase()));
  const setFind = (v: string) => setParams(v ? { find: v } : {}, { replace: true });
  return (
    <>
      <title>Standing · Dovrak</title>
      <section className="top">
        <div>
          <h1>Standing</h1>
          <p className="note">
            {s.organisation}, charter {s.charter}
            <br />
            <Today />
          </p>
        </div>
        <Panorama rows={s.rows} />
      </section>
      {s.rows.length === 0 ? (
        <Empty title="No component yet">
          The charter names none. Add one and adopt it: <code>dovrak charter adopt FILE</code>
        </Empty>
      ) : (
        <Ledger s={s} rows={rows} find={find} setFind={setFind} />
      )}
      <Below s={s} />
    </>
  );
}

function Today() {
  const t = new Date(useNow());
  return (
    <time dateTime={t.toISOString()}>
      {longDay(t)}, {clock(t).slice(0, 5)} UTC
    </time>
  );
}

type LedgerProps = { s: Standing; rows: Row[]; find: string; setFind: (v: string) => void };

function Ledger({ s, rows, find, setFind }: LedgerProps) {
  return (
    <div className="scroll" tabIndex={0} role="region" aria-label="What stands where">
      <table className={`ledger ${rows.length > MANY ? 'low' : ''}`}>
        <thead>
          <tr>
            <td className="finder">
              <Finder find={find} setFind={setFind} />
            </td>
            {s.environments.map((e, i) => (
              <EnvironmentHead key={e.name} name={e.name} span={2 * e.places.length - 1} first={i === 0} />
            ))}
          </tr>
          <tr className="places">
            <th scope="col">component</th>
            {s.environments.map((e, i) => [
              i > 0 && <td key={`${e.name}-way`} />,
              e.places.map((p, j) => [
                j > 0 && <td key={`${e.name}-${p}-eq`} />,
                <th scope="col" key={`${e.name}-${p}`}>
                  <RegistryHead name={p} /> <span className="seen">{seenIn(rows, e.name, p)}</span>
                </th>,
              ]),
            ])}
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => (
            <ComponentRow key={r.component} s={s} row={r} />
          ))}
        </tbody>
      </table>
      {rows.length === 0 && (
        <Empty title={`No component like “${find}”`}>
          {s.rows.length} have other names.{' '}
          <button type="button" className="text-btn" onClick={() => setFind('')}>
            Show all
          </button>
        </Empty>
      )}
    </div>
  );
}

/** Finder keeps what is typed by itself: the address follows a moment later, and must not take a letter back. */
function Finder({ find, setFind }: { find: string; setFind: (v: string) => void }) {
  const field = useRef<HTMLInputElement>(null);
  useEffect(() => {
    if (field.current && document.activeElement !== field.current) field.current.value = find;
  }, [find]);
  return (
    <label className="find">
      <Mark name="find" />
      <input
        ref={field}
        data-filter
        type="search"
        defaultValue={find}
        onChange={(e) => setFind(e.target.value)}
        placeholder="component"
        aria-label="Find a component"
      />
    </label>
  );
}

function EnvironmentHead({ name, span, first }: { name: string; span: number; first: boolean }) {
  return (
    <>
      {!first && (
        <td>
          <span className="way" />
        </td>
      )}
      <th scope="colgroup" colSpan={span}>
        {name}
      </th>
    </>
  );
}

/** RegistryHead names a registry, and says so where its newest check fails or its certificates go unchecked. */
function RegistryHead({ name }: { name: string }) {
  const r = useRegistries().data?.items.find((x) => x.name === name);
  const bad = failing(r?.checks[0]);
  return (
    <>
      <Link className="plain" to={`/registries/${name}`}>
        <b>{name}</b>
      </Link>
      {(bad || r?.exception?.counts) && (
        <span className="refused">
          {' '}
          <Mark name="refused" /> {bad ? `${bad.name} fails` : 'unchecked'}
        </span>
      )}
    </>
  );
}

/** seenIn tells the oldest sighting of a column: the one that its reader must reckon with. */
function seenIn(rows: Row[], environment: string, place: string) {
  const seen = rows
    .flatMap((r) => r.cells)
    .filter((c) => c.environment === environment && c.registry === place)
    .map((c) => c.seen);
  if (seen.some((t) => !t)) return 'not all seen yet';
  const oldest = seen.filter((t) => t !== undefined).sort()[0];
  return oldest ? (
    <>
      seen <Clock of={oldest} />
    </>
  ) : null;
}

function ComponentRow({ s, row }: { s: Standing; row: Row }) {
  const cellOf = (env: string, place: string) => row.cells.find((c) => c.environment === env && c.registry === place);
  return (
    <tr>
      <th scope="row">
        <Link className="plain name" to={componentPath(row.component)}>
          {row.component}
        </Link>
        <span className="plat">
          {row.platforms.map((p) => p.replace('linux/', '')).join(', ')}; <Link to={acrossPath(row.component)}>tags</Link>
        </span>
      </th>
      {s.environments.map((e, i) => {
        const before = s.environments[i - 1];
        return [
          before && <Pass key={`${e.name}-pass`} row={row} from={cellOf(before.name, before.places[0]!)} to={e.name} />,
          e.places.map((p, j) => [
            j > 0 && <Equal key={`${e.name}-${p}-eq`} a={cellOf(e.name, e.places[j - 1]!)} b={cellOf(e.name, p)} />,
            <Place key={`${e.name}-${p}`} component={row.component} cell={cellOf(e.name, p)} back={i > 0} first={j === 0} />,
          ]),
        ];
      })}
    </tr>
  );
}

/** Place is one cell: the ridge, the version, the age; and what is wrong, in words. */
function Place({ component, cell, back, first }: { component: string; cell: Cell | undefined; back: boolean; first: boolean }) {
  const may = useWho().data?.may.includes('roll-back') ?? false; // whether here, the service says
  if (!cell) return <td className="quiet">not on its route</td>;
  if (!cell.seen) return <td className="quiet">not looked at yet</td>;
  const to = `/history/${component}?lane=${encodeURIComponent(`${cell.registry}/${cell.repository}:${cell.tag}`)}`;
  return (
    <td className={cell.drift ? 'drifted' : ''}>
      <div className="in">
        {cell.digest ? <Plate digest={cell.digest} /> : <span className="quiet">nothing stands here</span>}
        {cell.digest && (
          <div className="says">
            <Link className="plain" to={to}>
              <b>{cell.version || 'no version'}</b>
            </Link>
            <span className="age">{cell.since ? <Age of={cell.since} /> : 'not by Dovrak'}</span>
            <span>
              <Link className="plain" to={imagePath(`${cell.registry}/${cell.repository}:${cell.tag}`)}>
                <code>{cell.tag}</code>
              </Link>
              {back && first && may && (
                <Link className="fine" to={rollBackPath(component, cell.environment)}>
                  roll back
                  <span className="sr">
                    {' '}
                    {component} in {cell.environment}
                  </span>
                </Link>
              )}
            </span>
          </div>
        )}
      </div>
      {cell.drift && (
        <p className="remark drift">
          <Mark name="drift" />
          <span>
            <b>drift</b>: decided {cell.decided?.slice(7, 19)}
          </span>
        </p>
      )}
      {!cell.drift && first && cell.unreviewed && cell.promotion && (
        <p className="remark waits">
          <Mark name="waits" /> <Link to={promotionPath(cell.promotion)}>not reviewed</Link>
        </p>
      )}
      {!cell.drift && first && !cell.unreviewed && cell.rollBack && cell.promotion && (
        <p className="remark">
          <Mark name="back" /> <Link to={promotionPath(cell.promotion)}>rolled back</Link>
        </p>
      )}
    </td>
  );
}

/** Equal says whether two places of an environment agree; of what was not seen, nothing. */
function Equal({ a, b }: { a: Cell | undefined; b: Cell | undefined }) {
  if (!a?.seen || !b?.seen || !(a.digest || b.digest)) return <td className="eq" />;
  const same = a.digest === b.digest;
  return (
    <td className={same ? 'eq' : 'eq waits'}>
      <span className="sr">{same ? 'same as' : 'differs from'}</span>
      <Mark name={same ? 'same' : 'drift'} />
      {!same && <span aria-hidden="true">differs</span>}
    </td>
  );
}

/** Pass says what lies between an environment and the next. */
function Pass({ row, from, to }: { row: Row; from: Cell | undefined; to: string }) {
  const open = row.open.find((p) => p.environment === to);
  if (open) {
    const total = open.progress.reduce((n, p) => n + p.total, 0);
    const moved = open.progress.reduce((n, p) => n + p.moved + p.mounted, 0);
    const part = total > 0 ? Math.floor((100 * moved) / total) : 0;
    return (
      <td className="pass">
        <b>
          <WorkState state={open.state} />
        </b>
        <span>
          <Link to={promotionPath(open.number)}>
            {open.rollBack ? 'roll back' : 'promotion'} {open.number}
          </Link>
          {total > 0 && <>, {part}&nbsp;%</>}
        </span>
        {total > 0 && (
          <span className="bar" role="progressbar" aria-label={`promotion ${open.number}`} aria-valuenow={part}>
            <span style={{ width: `${part}%` }} />
          </span>
        )}
      </td>
    );
  }
  const gap = row.gaps.find((g) => g.to === to);
  if (!from?.digest || !gap) return <td className="pass" />;
  return (
    <td className="pass">
      <Between row={row} gap={gap} version={from.version} />
    </td>
  );
}

/** Between says what waits between an environment and the next: how far apart they are, and the way to promote it. */
export function Between({ row, gap, version }: { row: Row; gap: Gap; version: string | undefined }) {
  const may = useWho().data?.may.includes('promote') ?? false; // whether there, the service says
  if (gap.same) return <i>same</i>;
  const builds = Math.abs(gap.builds);
  const behind = Math.abs(gap.behindSeconds) * SECOND;
  return (
    <>
      {gap.rolledBack ? (
        <b className="refused">
          <Mark name="back" /> rolled back
        </b>
      ) : (
        <b>{builds === 0 ? 'not promoted' : `${builds} ${builds === 1 ? 'build' : 'builds'} ${gap.builds < 0 ? 'ahead' : 'behind'}`}</b>
      )}
      <span>
        {gap.rolledBack ? <Link to={promotionPath(gap.rolledBack)}>{version}</Link> : version}
        {builds > 0 && behind > 0 ? `, by ${age(behind)}` : ''}
      </span>
      {may && (
        <Link to={promotePath(row.component, gap.to)}>
          promote
          <span className="sr">
            {' '}
            {row.component} to {gap.to}
          </span>
        </Link>
      )}
    </>
  );
}
