// The chart of History: lanes along a time axis, and a plumb line at the instant that is read.
import { useEffect, useRef, useState, type KeyboardEvent, type PointerEvent } from 'react';
import type { Lane, Meaning } from '../api/client';
import { Inline } from '../parts/digest';
import { Mark } from '../parts/marks';
import { Ridge, hue } from '../parts/ridge';
import { both, clock, DAY, HOUR, MINUTE, SECOND } from '../parts/time';

export const nameOf = (l: Lane) => `${l.registry}/${l.repository}:${l.tag}`;

/** meantAt finds what a lane meant at an instant. */
export const meantAt = (l: Lane, at: number): Meaning | undefined =>
  l.stretches.findLast((s) => Date.parse(s.from) <= at && !(s.until && Date.parse(s.until) <= at));

const RIDGE = 56; // px of one ridge in a range
const MARK = 18; // px of a mark
const LETTER = 7.5; // px of a version's letter, at the most
const LABEL = 58; // px of a tick's label
const DRAG = 6; // px from which a drag is one

type Props = {
  lanes: Lane[];
  chosen: string;
  since: number;
  until: number;
  at: number;
  set: (change: Record<string, string | undefined>) => void;
};

export function Chart({ lanes, chosen, since, until, at, set }: Props) {
  const [ref, width] = useWidth();
  const span = until - since;
  const place = (t: number) => ((t - since) / span) * 100;
  const groups = Map.groupBy(lanes, (l) => `${l.environment} ${l.registry}/${l.repository}`);
  return (
    <section className="chart" aria-label="Tags over time">
      <div className="axis">
        <div className="lab">tag</div>
        <div className="time" ref={ref}>
          <Axis since={since} until={until} width={width} />
        </div>
        <div className="lab r">what each meant then</div>
      </div>
      {[...groups.values()].map((group) => (
        <div key={nameOf(group[0]!)}>
          <div className="grp">
            <b>{group[0]!.environment}</b>, {group[0]!.registry} <code>{group[0]!.repository}</code>
          </div>
          {group.map((l) => (
            <LaneLine key={nameOf(l)} lane={l} chosen={nameOf(l) === chosen} width={width} since={since} until={until} at={at} />
          ))}
        </div>
      ))}
      <Reader at={at} since={since} until={until} width={width} place={place} set={set} />
    </section>
  );
}

function useWidth(): [(el: HTMLDivElement | null) => void, number] {
  const [el, ref] = useState<HTMLDivElement | null>(null);
  const [width, set] = useState(700);
  useEffect(() => {
    if (!el) return undefined;
    const seen = new ResizeObserver(([e]) => e && set(e.contentRect.width));
    seen.observe(el);
    return () => seen.disconnect();
  }, [el]);
  return [ref, width];
}

const STEPS = [
  SECOND,
  5 * SECOND,
  15 * SECOND,
  30 * SECOND,
  MINUTE,
  2 * MINUTE,
  5 * MINUTE,
  15 * MINUTE,
  30 * MINUTE,
  HOUR,
  3 * HOUR,
  6 * HOUR,
  12 * HOUR,
  DAY,
  2 * DAY,
  7 * DAY,
  14 * DAY,
  30 * DAY,
  90 * DAY,
  365 * DAY,
];

function Axis({ since, until, width }: { since: number; until: number; width: number }) {
  const span = until - since;
  const step = STEPS.find((s) => (s / span) * width >= 62) ?? STEPS.at(-1)!;
  const ticks: number[] = [];
  for (let t = Math.ceil(since / step) * step; ((until - t) / span) * width > LABEL; t += step) ticks.push(t);
  return (
    <>
      {ticks.map((t, i) => (
        <span className="tick" key={t} style={{ left: `${((t - since) / span) * 100}%` }} title={both(new Date(t))}>
          <i>{i === 0 || isNewDay(t, step) ? dayOf(t) : ''}</i>
          {step < MINUTE ? clock(new Date(t)) : step < DAY ? clock(new Date(t)).slice(0, 5) : new Date(t).getUTCDate()}
        </span>
      ))}
    </>
  );
}

const isNewDay = (t: number, step: number) =>
  step < DAY ? Math.floor(t / DAY) !== Math.floor((t - step) / DAY) : new Date(t).getUTCDate() <= step / DAY;
const dayOf = (t: number) =>
  new Date(t).toLocaleDateString('en-GB', { weekday: 'short', day: 'numeric', month: 'short', timeZone: 'UTC' });

type LineProps = { lane: Lane; chosen: boolean; width: number; since: number; until: number; at: number };

function LaneLine({ lane, chosen, width, since, until, at }: LineProps) {
  const then = meantAt(lane, at);
  return (
    <div className={`lane ${chosen ? 'chosen' : ''}`}>
      <div className="tag">
        <code>{lane.tag}</code> <i>{lane.fixed ? 'fixed' : 'moving'}</i>
      </div>
      <div className="time">
        {lane.stretches.map((s) => (
          <StretchBar key={s.from} s={s} lane={lane} width={width} since={since} until={until} />
        ))}
      </div>
      <div className="read">
        {then ? (
          <>
            <Inline digest={then.digest} />
            <b>{then.version}</b>
          </>
        ) : (
          <span className="quiet">nothing yet</span>
        )}
      </div>
    </div>
  );
}

function StretchBar({ s, lane, width, since, until }: { s: Meaning; lane: Lane; width: number; since: number; until: number }) {
  const from = Math.max(Date.parse(s.from), since);
  const to = Math.min(s.until ? Date.parse(s.until) : until, until);
  if (to <= from) return null;
  const px = Math.max(((to - from) / (until - since)) * width - 1, 2);
  const cut = Date.parse(s.from) < since; // it began before what is shown
  const title = `${lane.tag}: ${s.version ?? ''} ${s.digest}\nfrom ${both(new Date(s.from))}\n${s.by}: ${s.because}`;
  return (
    <div
      className="span"
      title={title}
      style={{ left: `${((from - since) / (until - since)) * 100}%`, width: px, borderBottomColor: `var(--ridge-${hue(s.digest)})` }}
    >
      {px > 14 && (
        <span className="cap">
          {!cut && <Mark name={s.rollBack || s.back ? 'back' : s.promotion ? 'promote' : 'pointed'} />}
          {px > MARK + LETTER * (s.version?.length ?? 0) && <b>{s.version}</b>}
        </span>
      )}
      <span className="range">
        <Range digest={s.digest} px={px} />
      </span>
    </div>
  );
}

/** Range is a digest's ridge again and again, the first of them clear. */
function Range({ digest, px }: { digest: string; px: number }) {
  if (px < RIDGE) return <Ridge digest={digest} width={px} height={18} stretch />;
  return Array.from({ length: Math.ceil(px / RIDGE) }, (_, i) => <Ridge key={i} digest={digest} width={RIDGE} height={18} />);
}

type ReaderProps = Omit<Props, 'lanes' | 'chosen'> & { width: number; place: (t: number) => number };

/** Reader lies over the lanes: a click or an arrow key reads an instant, a drag looks closer. */
function Reader({ at, since, until, width, place, set }: ReaderProps) {
  const began = useRef<number | undefined>(undefined);
  const [drag, setDrag] = useState<[number, number]>();
  const span = until - since;
  const timeAt = (x: number) => new Date(since + (Math.min(Math.max(x, 0), width) / width) * span).toISOString();
  const x = (e: PointerEvent<HTMLDivElement>) => e.clientX - e.currentTarget.getBoundingClientRect().left;
  const down = (e: PointerEvent<HTMLDivElement>) => {
    if (e.button !== 0) return;
    began.current = x(e);
    e.currentTarget.setPointerCapture(e.pointerId);
  };
  const move = (e: PointerEvent<HTMLDivElement>) => {
    if (began.current !== undefined && Math.abs(x(e) - began.current) > DRAG) setDrag([began.current, x(e)]);
  };
  const up = () => {
    if (drag) {
      const [a, b] = [Math.min(...drag), Math.max(...drag)];
      set({ since: timeAt(a), until: timeAt(b), at: undefined });
    } else if (began.current !== undefined) set({ at: timeAt(began.current) });
    began.current = undefined;
    setDrag(undefined);
  };
  const key = (e: KeyboardEvent) => {
    const way = e.key === 'ArrowLeft' ? -1 : e.key === 'ArrowRight' ? 1 : 0;
    if (!way) return;
    e.preventDefault();
    set({ at: new Date(Math.min(Math.max(at + (way * span) / 100, since), until)).toISOString() });
  };
  const here = new Date(at);
  return (
    <div
      className="reader"
      role="slider"
      tabIndex={0}
      aria-label="instant that is read"
      aria-valuemin={since}
      aria-valuemax={until}
      aria-valuenow={at}
      aria-valuetext={both(here)}
      onPointerDown={down}
      onPointerMove={move}
      onPointerUp={up}
      onKeyDown={key}
    >
      {at >= since && at <= until && (
        <div className="plumb" style={{ left: `${place(at)}%` }}>
          <span className={place(at) > 88 ? 'left' : ''} title={both(here)}>
            {clock(here)}
          </span>
        </div>
      )}
      {drag && <div className="drag" style={{ left: Math.min(...drag), width: Math.abs(drag[1] - drag[0]) }} />}
    </div>
  );
}
