// Sizes in IEC units, the unit in a lighter ink.
const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB'];

/** scaled gives a size's number and unit. */
export function scaled(n: number): [string, string] {
  let i = 0;
  let v = n;
  for (; v >= 1024 && i < units.length - 1; i++) v /= 1024;
  return [i === 0 || v >= 100 ? String(Math.round(v)) : v.toFixed(1), units[i]!];
}

export function Bytes({ n }: { n: number }) {
  const [v, unit] = scaled(n);
  return (
    <span className="bytes">
      {v} <span className="unit">{unit}</span>
    </span>
  );
}
