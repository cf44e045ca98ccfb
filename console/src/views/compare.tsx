// Two images side by side: platforms, layers kept and new, what differs in config and labels, what is attached.
import { useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, take, type Schema } from '../api/client';
import { Bytes, scaled } from '../parts/bytes';
import { Inline, Plate } from '../parts/digest';
import { buildPath, imagePath } from '../parts/paths';
import { hue } from '../parts/ridge';
import { Section } from '../parts/section';
import { Failed, Loading } from '../parts/states';

type Comparison = Schema['Comparison'];

export function CompareView() {
  const [params, setParams] = useSearchParams();
  const a = params.get('a') ?? '';
  const b = params.get('b') ?? '';
  const both = a !== '' && b !== '';
  const c = useQuery({
    queryKey: ['compare', a, b],
    queryFn: () => take(api.GET('/api/v1/comparison', { params: { query: { a, b } } })),
    enabled: both,
    staleTime: 30_000,
  });
  return (
    <>
      <title>Compare · Dovrak</title>
      <header className="head">
        <h1>Compare</h1>
        <form
          className="filters"
          key={`${a} ${b}`}
          onSubmit={(e) => {
            e.preventDefault();
            const f = new FormData(e.currentTarget);
            setParams({ a: String(f.get('a')), b: String(f.get('b')) });
          }}
        >
          <label>
            A <input className="field wide-field" name="a" defaultValue={a} placeholder="hut/live/snowpack-model:live" required />
          </label>
          <label>
            B <input className="field wide-field" name="b" defaultValue={b} placeholder="forge/bench/snowpack-model:main" required />
          </label>
          <button type="submit" className="btn">
            Compare
          </button>
        </form>
      </header>
      {!both ? <p className="quiet">Name two images in full; B is seen as what came after A.</p> : null}
      {both && c.isError && <Failed error={c.error} retry={() => void c.refetch()} />}
      {both && !c.data && !c.isError && <Loading what="both images" />}
      {c.data && <Result c={c.data} a={a} b={b} />}
    </>
  );
}

/** Changes are the commits that lie between the builds of both. */
function Changes({ between }: { between: Schema['Between'] }) {
  const { from, to, changes } = between;
  return (
    <Section
      title="Changes between their builds"
      aside={
        <>
          {from.component} <Link to={buildPath(from.component, from.number)}>{from.number}</Link> to{' '}
          <Link to={buildPath(to.component, to.number)}>{to.number}</Link>
        </>
      }
    >
      <ul className="labels">
        {changes.map((c) => (
          <li key={`${c.build} ${c.id}`}>
            <span className="wrap-anywhere">
              <span className="unit">{c.build}</span> {c.title}
            </span>
            <code>{c.id.slice(0, 12)}</code>
          </li>
        ))}
      </ul>
      {changes.length === 0 && <p className="note">Their builds say of no change.</p>}
    </Section>
  );
}

function Result({ c, a, b }: { c: Comparison; a: string; b: string }) {
  const values = [
    ...c.platforms.filter((p) => p.a && p.b).flatMap((p) => [...p.config, ...p.labels].map((v) => ({ ...v, of: p.platform }))),
    ...c.labels.map((v) => ({ ...v, of: 'index' })),
  ];
  return (
    <>
      <div className="sides">
        <Side name="A" reference={a} img={c.a} />
        <Side name="B" reference={b} img={c.b} />
      </div>
      {c.same ? (
        <p className="py-7">The very same image.</p>
      ) : (
        <>
          {c.between && <Changes between={c.between} />}
          <Section title="Platforms" aside="layers kept in their hue, new ones open">
            {c.platforms.map((p) => (
              <PlatformRow key={p.platform} p={p} />
            ))}
          </Section>
          <Section title="Differs in" aside={values.length || undefined}>
            <table className="lines">
              <thead>
                <tr>
                  <th scope="col">of</th>
                  <th scope="col">what</th>
                  <th scope="col">A</th>
                  <th scope="col">B</th>
                </tr>
              </thead>
              <tbody>
                {values.map((v) => (
                  <tr key={v.of + v.name}>
                    <td>{v.of}</td>
                    <th scope="row">{v.name}</th>
                    <td className="wrap-anywhere">{v.a ? <code>{v.a}</code> : <span className="quiet">absent</span>}</td>
                    <td className="wrap-anywhere">{v.b ? <code>{v.b}</code> : <span className="quiet">absent</span>}</td>
                  </tr>
                ))}
                {c.attached
                  .filter((x) => x.a !== x.b)
                  .map((x) => (
                    <tr key={x.kind + x.type}>
                      <td>attached</td>
                      <th scope="row">
                        {x.kind} <code>{x.type}</code>
                      </th>
                      <td>{x.a}</td>
                      <td>{x.b}</td>
                    </tr>
                  ))}
              </tbody>
            </table>
          </Section>
        </>
      )}
    </>
  );
}

function Side({ name, reference, img }: { name: string; reference: string; img: Schema['Image'] }) {
  return (
    <div>
      <Plate digest={img.digest} />
      <p>
        <b>{name}</b> <Link to={imagePath(reference)}>{reference}</Link>
        <br />
        {img.version} <span className="unit">{scaled(img.size).join(' ')}</span>
      </p>
    </div>
  );
}

function PlatformRow({ p }: { p: Schema['ComparedPlatform'] }) {
  const most = Math.max(p.sizeA, p.sizeB, 1);
  const seg = (l: Schema['Layer'], only: boolean) => (
    <span
      key={l.digest}
      className={only ? 'seg only' : 'seg'}
      style={{ width: `${(100 * l.size) / most}%`, background: only ? undefined : `var(--ridge-${hue(l.digest)})` }}
      title={`${l.digest}\n${scaled(l.size).join(' ')}`}
    />
  );
  return (
    <div className="platform">
      <div>
        <b>{p.platform}</b>
        {p.a ? <Inline digest={p.a} /> : <span className="waits">not in A</span>}
        {p.b ? <Inline digest={p.b} /> : <span className="waits">not in B</span>}
      </div>
      <div>
        <div className="strata" role="img" aria-label={`A: ${p.shared.length} layers kept, ${p.removed.length} gone`}>
          {p.shared.map((l) => seg(l, false))}
          {p.removed.map((l) => seg(l, true))}
        </div>
        <div className="strata" role="img" aria-label={`B: ${p.shared.length} layers kept, ${p.added.length} new`}>
          {p.shared.map((l) => seg(l, false))}
          {p.added.map((l) => seg(l, true))}
        </div>
      </div>
      <div className="num">
        <b>
          <Bytes n={p.addedBytes} />
        </b>
        <span className="unit">to pull</span>
      </div>
    </div>
  );
}
