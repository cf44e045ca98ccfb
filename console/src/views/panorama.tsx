// The panorama: what stands at the end of the route, as a range of mountains; the names stand on their summits. One
// component is one broad mountain; of many, those that changed last are shown.
import type { Row } from '../api/client';
import { Ridge } from '../parts/ridge';

const MOST = 5;

export function Panorama({ rows }: { rows: Row[] }) {
  const peaks = rows
    .map((r) => ({ component: r.component, cell: r.cells.at(-1) }))
    .filter((p) => p.cell?.digest)
    .sort((a, b) => (b.cell?.since ?? '').localeCompare(a.cell?.since ?? ''))
    .slice(0, MOST);
  if (peaks.length === 0) return null;
  const step = 100 / peaks.length;
  const width = peaks.length === 1 ? 100 : step * 1.13; // each stands a little before the next
  return (
    <div className="panorama" aria-hidden="true">
      {peaks.map((p, i) => {
        const summit = summitOf(p.cell!.digest!);
        return (
          <div className="peak" key={p.component} style={{ left: `${Math.min(i * step, 100 - width)}%`, width: `${width}%` }}>
            <Ridge digest={p.cell!.digest!} width="100%" height={76} stretch />
            <span
              className={`sign ${summit.x > 0.55 ? 'back' : ''}`}
              style={{ left: `${summit.x * 100}%`, bottom: `${summit.y * 76}px`, height: i % 2 ? 26 : 10 }} // neighbours' names never meet
            >
              <span>
                {p.component} <b>{p.cell!.version}</b>
              </span>
            </span>
          </div>
        );
      })}
    </div>
  );
}

/** summitOf finds the highest of the twelve posts: how far along, and how high, both as a part of the whole. */
function summitOf(digest: string) {
  const digits = Array.from(digest.slice(digest.indexOf(':') + 1).slice(0, 12), (c) => parseInt(c, 16));
  const top = digits.indexOf(Math.max(...digits));
  return { x: (top + 0.5) / 12, y: 0.09 + (0.88 * (digits[top] ?? 0)) / 15 };
}
