// A ridge is the mountain silhouette of a digest: what the eye compares before it reads.
//
//   hex digit   1–12   the near ridge: twelve posts, post i as high as digit i (0 low, f high)
//   hex digit   13     the hue, one of eight (its low three bits)
//   hex digits 14–21   the far ridge behind, pale: eight posts more
//
// The same digest always gives the same drawing, here and (as block characters) on the command line.
import { memo } from 'react';

const POSTS = 12;
const FAR = 8;
const W = 168; // drawn in one size, shown in any
const H = 54;

type Point = [number, number];

const hexOf = (digest: string) => digest.slice(digest.indexOf(':') + 1);

/** short is the first twelve hex digits: the form that stands beside a ridge. */
export const short = (digest: string) => hexOf(digest).slice(0, POSTS);

const nibbles = (digest: string) => Array.from(hexOf(digest).slice(0, POSTS + 1 + FAR), (c) => parseInt(c, 16) || 0);

/** hue of a digest, 0 to 7. */
export const hue = (digest: string) => (nibbles(digest)[POSTS] ?? 0) & 7;

// Posts stand in the middle of equal steps; the line comes down a little towards both edges.
function line(values: number[], low: number, high: number, fall: number): Point[] {
  const step = W / values.length;
  const p = values.map((v, i): Point => [(i + 0.5) * step, H * (1 - low - ((high - low) * v) / 15)]);
  const edge = (q: Point | undefined) => H - (H - (q?.[1] ?? H)) * fall;
  return [[0, edge(p[0])], ...p, [W, edge(p.at(-1))]];
}

const n = (v: number) => String(Math.round(v * 10) / 10);
const path = (points: Point[]) => points.map(([x, y]) => `${n(x)} ${n(y)}`).join('L');
const close = (p: Point[]) => `M0 ${H}L${path(p)}L${W} ${H}Z`;

// Light comes from the left: every climb, from its foot to its summit, is a lit face whose lower edge breaks under the
// summit like a spur.
function litFaces(near: Point[]): string {
  let faces = '';
  for (let i = 0, j; i < near.length - 1; i = Math.max(j, i + 1)) {
    for (j = i; j < near.length - 1 && near[j + 1]![1] <= near[j]![1]; j++);
    const [fx, fy] = near[i]!;
    const [sx, sy] = near[j]!;
    if (j === i || fy - sy < 0.5) continue;
    const w = sx - fx;
    const d = H - sy;
    faces += `M${path([
      ...near.slice(i, j + 1),
      [sx - w * 0.24, sy + d * 0.4],
      [sx + Math.min(4, w * 0.2), sy + d * 0.6],
      [sx - w * 0.14, H],
      [Math.max(0, fx - w * 0.14), H],
    ])}Z`;
  }
  return faces;
}

type Props = { digest: string; width?: number | string; height?: number | string; stretch?: boolean };

/** Ridge draws a digest. It is hidden from a screen reader, since the digits stand beside it. */
export const Ridge = memo(function Ridge({ digest, width = 56, height = 18, stretch = false }: Props) {
  const v = nibbles(digest);
  const near = line(v.slice(0, POSTS), 0.09, 0.97, 0.3);
  const far = line(v.slice(POSTS + 1), 0.26, 0.92, 0.62);
  const shade = `var(--ridge-${hue(digest)})`;
  const lit = `var(--ridge-${hue(digest)}-lit)`;
  return (
    <svg
      className="ridge"
      width={width}
      height={height}
      viewBox={`0 0 ${W} ${H}`}
      preserveAspectRatio={stretch ? 'none' : 'xMidYMax meet'}
      aria-hidden="true"
    >
      <path d={close(far)} fill={lit} fillOpacity="var(--ridge-far)" />
      <path d={close(near)} fill={shade} />
      <path d={litFaces(near)} fill={lit} />
    </svg>
  );
});
