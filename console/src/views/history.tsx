// History: one line a tag along a time axis; the stretch in which it meant a digest is a range of that digest's ridge.
// Drag to look closer, click or type to read an instant.
import { useQuery } from '@tanstack/react-query';
import { Link, Navigate, useNavigate, useParams, useSearchParams } from 'react-router';
import { Select } from 'radix-ui';
import { api, take, type History, type Lane, type Meaning } from '../api/client';
import { Inline } from '../parts/digest';
import { Mark } from '../parts/marks';
import { promotionPath } from '../parts/paths';
import { Empty, Failed, Loading } from '../parts/states';
import { both, clock, isoDay, useNow } from '../parts/time';
import { Chart, meantAt, nameOf } from './chart';
import { useStanding } from './standing';

export function HistoryView() {
  const { component } = useParams();
  const standing = useStanding();
  if (!standing.data && standing.isError) return <Failed error={standing.error} retry={() => void standing.refetch()} />;
  if (!standing.data) return <Loading what="the components" />;
  const components = standing.data.rows.map((r) => r.component);
  if (!component) {
    const newest = standing.data.rows.toSorted((a, b) => latest(b).localeCompare(latest(a)))[0];
    return newest ? (
      <Navigate to={`/history/${newest.component}`} replace />
    ) : (
      <Empty title="No component yet">Adopt a charter that names one.</Empty>
    );
  }
  const tags = new Map(standing.data.environments.map((e) => [e.name, e.tag]));
  return <Ledger component={component} components={components} standing={tags} />;
}

const latest = (r: { cells: { since?: string }[] }) =>
  r.cells
    .map((c) => c.since ?? '')
    .sort()
    .at(-1) ?? '';

/** usePast reads the view from the address, so that every view is one that can be pasted. */
function usePast(h: History | undefined) {
  const [params, setParams] = useSearchParams();
  const now = useNow();
  const set = (change: Record<string, string | undefined>) =>
    setParams((was) => {
      for (const [k, v] of Object.entries(change)) {
        if (v === undefined) was.delete(k);
        else was.set(k, v);
      }
      return was;
    });
  const first = Math.min(
    ...(h?.lanes ?? []).map((l) => Date.parse(l.stretches[0]?.from ?? '')).filter((t) => !Number.isNaN(t)),
    now - 10_000,
  );
  const whole = { since: Math.max(first - (now - first) * 0.04, h ? Date.parse(h.since) : 0), until: now };
  const since = Date.parse(params.get('since') ?? '') || whole.since;
  const until = Date.parse(params.get('until') ?? '') || whole.until;
  const asked = Date.parse(params.get('at') ?? '');
  return {
    since,
    until,
    at: asked || Math.min(now, until),
    reading: Boolean(asked),
    zoomed: params.has('since'),
    lane: params.get('lane'),
    set,
  };
}

type LedgerProps = { component: string; components: string[]; standing: Map<string, string> };

function Ledger({ component, components, standing }: LedgerProps) {
  const [params] = useSearchParams();
  const since = params.get('since');
  const history = useQuery({
    queryKey: ['history', component, since],
    queryFn: () => take(api.GET('/api/v1/history', { params: { query: since ? { component, since } : { component } } })),
    placeholderData: (was) => (was?.component === component ? was : undefined),
  });
  const past = usePast(history.data);
  const go = useNavigate();
  const lanes = history.data?.lanes ?? [];
  const chosen = lanes.find((l) => nameOf(l) === past.lane) ?? lanes.findLast((l) => l.tag === standing.get(l.environment)) ?? lanes[0];
  return (
    <>
      <title>{`History of ${component} · Dovrak`}</title>
      <section className="top history-top">
        <div>
          <h1>History</h1>
          <Choice label="component" value={component} options={components} onChange={(c) => void go(`/history/${c}`)} />
        </div>
        {chosen && (
          <div className="ask">
            <p>
              What did{' '}
              <Choice
                label="tag"
                mono
                value={nameOf(chosen)}
                options={lanes.map(nameOf)}
                show={(n) => n.slice(n.lastIndexOf(':') + 1)}
                onChange={(lane) => past.set({ lane })}
              />{' '}
              mean on <Instant at={past.at} set={(t) => past.set({ at: new Date(t).toISOString() })} /> UTC?
              {past.reading && (
                <button type="button" className="text-btn" onClick={() => past.set({ at: undefined })}>
                  now
                </button>
              )}
            </p>
            <Answer lane={chosen} at={past.at} />
          </div>
        )}
      </section>
      {history.isPending && <Loading what={`the history of ${component}`} />}
      {history.isError && !history.data && <Failed error={history.error} retry={() => void history.refetch()} />}
      {history.data && lanes.length === 0 && (
        <Empty title="Dovrak has pointed no tag of this component yet">
          The first change of one begins its line: <code>dovrak point REPOSITORY@DIGEST TAG --because …</code>
        </Empty>
      )}
      {lanes.length > 0 && (
        <>
          <Chart lanes={lanes} chosen={chosen ? nameOf(chosen) : ''} {...past} />
          <p className="key">
            <span>
              <Mark name="promote" /> promoted
            </span>
            <span>
              <Mark name="back" /> rolled back, or taken back
            </span>
            <span>
              <Mark name="pointed" /> pointed
            </span>
            <span>drag to look closer, click to read an instant</span>
            {past.zoomed && (
              <button type="button" className="text-btn" onClick={() => past.set({ since: undefined, until: undefined })}>
                show the whole time
              </button>
            )}
          </p>
        </>
      )}
    </>
  );
}

type ChoiceProps = {
  label: string;
  value: string;
  options: string[];
  onChange: (v: string) => void;
  mono?: boolean;
  show?: (v: string) => string;
};

function Choice({ label, value, options, onChange, mono = false, show = (v) => v }: ChoiceProps) {
  return (
    <Select.Root value={value} onValueChange={onChange}>
      <Select.Trigger className={mono ? 'fld mono' : 'fld plain-fld'} aria-label={label}>
        <span>{show(value)}</span>
        <Select.Icon asChild>
          <span>
            <Mark name="down" />
          </span>
        </Select.Icon>
      </Select.Trigger>
      <Select.Portal>
        <Select.Content className="menu" position="popper" sideOffset={4}>
          <Select.Viewport>
            {options.map((o) => (
              <Select.Item className="menu-item" key={o} value={o}>
                <Select.ItemText>{o}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}

function Instant({ at, set }: { at: number; set: (t: number) => void }) {
  const t = new Date(at);
  const change = (day: string, time: string) => {
    const next = Date.parse(`${day}T${time.length === 5 ? `${time}:00` : time}Z`);
    if (!Number.isNaN(next)) set(next);
  };
  return (
    <>
      <input className="fld" type="date" aria-label="day" value={isoDay(t)} onChange={(e) => change(e.target.value, clock(t))} /> at{' '}
      <input
        className="fld"
        type="time"
        step="1"
        aria-label="time"
        value={clock(t)}
        onChange={(e) => change(isoDay(t), e.target.value)}
      />
    </>
  );
}

function Answer({ lane, at }: { lane: Lane; at: number }) {
  const m = meantAt(lane, at);
  const where = `${lane.registry}/${lane.repository}`;
  if (!m)
    return (
      <p className="answer">
        Dovrak had not pointed <code>{lane.tag}</code> in <code>{where}</code> yet.
      </p>
    );
  return (
    <p className="answer">
      <b>{m.version ?? 'no version'}</b> <Inline digest={m.digest} /> in <code>{where}</code>, from <When at={m.from} />
      {m.until ? (
        <>
          {' '}
          to <When at={m.until} />
        </>
      ) : (
        ', and still does'
      )}
      ;{' '}
      {m.promotion ? (
        <>
          <Link to={promotionPath(m.promotion)}>
            {m.rollBack ? 'roll back' : 'promotion'} {m.promotion}
          </Link>
          {m.back && ', which was taken back'}, asked by {m.by}
        </>
      ) : (
        <>pointed by {m.by}</>
      )}
      : <i>{m.because}</i>
    </p>
  );
}

const When = ({ at }: { at: NonNullable<Meaning['until']> }) => {
  const t = new Date(at);
  return (
    <time dateTime={at} title={both(t)}>
      {t.toLocaleDateString('en-GB', { day: 'numeric', month: 'long', timeZone: 'UTC' })} {clock(t)}
    </time>
  );
};
