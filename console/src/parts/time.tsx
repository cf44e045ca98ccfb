// Time as the console tells it: ages that go on, the absolute time on hover, in UTC and local.
import { useSyncExternalStore } from 'react';

let now = Date.now();
const listeners = new Set<() => void>();
let ticking: number | undefined;

function subscribe(fn: () => void) {
  listeners.add(fn);
  ticking ??= window.setInterval(() => {
    now = Date.now();
    listeners.forEach((l) => l());
  }, 1000);
  return () => {
    listeners.delete(fn);
    if (listeners.size === 0) {
      clearInterval(ticking);
      ticking = undefined;
    }
  };
}

/** useNow is the present, once a second. */
export const useNow = () => useSyncExternalStore(subscribe, () => now);

export const SECOND = 1000;
export const MINUTE = 60 * SECOND;
export const HOUR = 60 * MINUTE;
export const DAY = 24 * HOUR;

/** age says how long ago a time was, in its largest unit. */
export function age(ms: number): string {
  if (ms < MINUTE) return `${Math.max(0, Math.floor(ms / SECOND))} s`;
  if (ms < HOUR) return `${Math.floor(ms / MINUTE)} min`;
  if (ms < 2 * DAY) return `${Math.floor(ms / HOUR)} h`;
  return `${Math.floor(ms / DAY)} d`;
}

const pad = (v: number) => String(v).padStart(2, '0');
export const clock = (t: Date) => `${pad(t.getUTCHours())}:${pad(t.getUTCMinutes())}:${pad(t.getUTCSeconds())}`;
export const isoDay = (t: Date) => t.toISOString().slice(0, 10);
export const longDay = (t: Date) =>
  t.toLocaleDateString('en-GB', { weekday: 'long', day: 'numeric', month: 'long', year: 'numeric', timeZone: 'UTC' });

/** both is a time in UTC and local, for a hover. */
export const both = (t: Date) => `${isoDay(t)} ${clock(t)} UTC\n${t.toLocaleString('en-GB')} here`;

export function Age({ of }: { of: string }) {
  const t = new Date(of);
  return (
    <time dateTime={of} title={both(t)}>
      {age(useNow() - t.getTime())}
    </time>
  );
}

export function Clock({ of }: { of: string }) {
  const t = new Date(of);
  return (
    <time dateTime={of} title={both(t)}>
      {clock(t)}
    </time>
  );
}
