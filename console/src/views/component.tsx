// A component: what stands where, how its images got along the route, and how long that takes.
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { api, take, type Schema } from '../api/client';
import { Inline, Plate } from '../parts/digest';
import { Mark } from '../parts/marks';
import { acrossPath, buildPath, buildsPath, imagePath, promotionPath, rollBackPath } from '../parts/paths';
import { Section } from '../parts/section';
import { Empty, Failed, Loading } from '../parts/states';
import { Age, age, both, SECOND } from '../parts/time';
import { useWho } from '../parts/who';
import { Between } from './standing';

type Life = Schema['ComponentLife'];
type Step = Schema['LifeStep'];

export function ComponentView() {
  const { component = '' } = useParams();
  const life = useQuery({
    queryKey: ['component', component],
    queryFn: () => take(api.GET('/api/v1/components/{name}', { params: { path: { name: component } } })),
  });
  if (!life.data && life.isError) return <Failed error={life.error} retry={() => void life.refetch()} />;
  if (!life.data) return <Loading what={component} />;
  const l = life.data;
  return (
    <>
      <title>{`${l.component} · Dovrak`}</title>
      <header className="head">
        <h1>{l.component}</h1>
        <p className="note">
          {l.route.join(' → ')}, for {l.platforms.map((p) => p.replace('linux/', '')).join(', ')} &nbsp;/&nbsp;{' '}
          <Link to={`/history/${l.component}`}>history of its tags</Link>, <Link to={acrossPath(l.component)}>tags in all places</Link>,{' '}
          <Link to={buildsPath(l.component)}>builds</Link>
        </p>
      </header>
      <Stands l={l} />
      <div className="two">
        <div>
          <Section title="Its images on their way" aside="from the report of its build until it stood there">
            <Images l={l} />
          </Section>
        </div>
        <div>
          <Leads l={l} />
        </div>
      </div>
    </>
  );
}

/** Stands is what stands in each environment, and what lies between. */
function Stands({ l }: { l: Life }) {
  const may = useWho().data?.may ?? [];
  return (
    <div className="way-along">
      {l.route.map((env, i) => {
        const cells = l.row.cells.filter((c) => c.environment === env);
        const gap = l.row.gaps.find((g) => g.to === env);
        return [
          i > 0 && gap && (
            <div key={`${env} gap`} className="pass">
              <Between row={l.row} gap={gap} version={l.row.cells.find((c) => c.environment === gap.from)?.version} />
            </div>
          ),
          <div key={env}>
            <h2>{env}</h2>
            {cells.map((c) => (
              <div key={c.registry} className="in">
                {c.digest ? <Plate digest={c.digest} /> : <span className="quiet">nothing yet</span>}
                <span className="says">
                  <Link className="plain" to={imagePath(`${c.registry}/${c.repository}:${c.tag}`)}>
                    <b>{c.version ?? ''}</b>
                  </Link>
                  <span className="age">{c.since ? <Age of={c.since} /> : ''}</span>
                  <span className="age">
                    {c.registry}
                    {c.build ? `, build ${c.build}` : ''}
                  </span>
                </span>
              </div>
            ))}
            {i > 0 && (
              <p className="note">
                {may.includes('roll-back') && cells.some((c) => c.digest) && <Link to={rollBackPath(l.component, env)}>roll back</Link>}
              </p>
            )}
          </div>,
        ];
      })}
    </div>
  );
}

function Images({ l }: { l: Life }) {
  if (l.images.length === 0)
    return <Empty title="No image yet">Its first build begins this list: dovrak build start {l.component}</Empty>;
  return (
    <div className="within" tabIndex={0} role="region" aria-label="Images on their way">
      <table className="lines">
        <thead>
          <tr>
            <th scope="col">version</th>
            <th scope="col">image</th>
            <th scope="col">build</th>
            {l.route.map((env) => (
              <th scope="col" key={env}>
                {env}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {l.images.map((img) => (
            <tr key={img.digest}>
              <th scope="row">
                <b>{img.version ?? ''}</b>
              </th>
              <td>
                <Inline digest={img.digest} />
              </td>
              <td>
                {img.build ? <Link to={buildPath(l.component, img.build)}>{img.build}</Link> : ''}
                {img.built && (
                  <span className="unit">
                    {' '}
                    <Age of={img.built} /> ago
                  </span>
                )}
              </td>
              {img.steps.map((s) => (
                <Came key={s.environment} s={s} />
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** Came says how an image came to stand somewhere, and how that ended. */
function Came({ s }: { s: Step }) {
  if (!s.since) return <td className="unit">–</td>;
  const lead = s.leadSeconds > 0 ? age(s.leadSeconds * SECOND) : 'here';
  const ended = s.rolledBack ? (
    <Link className="refused" to={promotionPath(s.rolledBack)}>
      <Mark name="back" /> rolled back
    </Link>
  ) : s.until ? (
    ''
  ) : (
    <b>
      <Mark name="holds" /> stands
    </b>
  );
  return (
    <td title={`since ${both(new Date(s.since))}${s.until ? `\nuntil ${both(new Date(s.until))}` : ''}`}>
      {s.promotion ? <Link to={promotionPath(s.promotion)}>{lead}</Link> : lead} {ended}
    </td>
  );
}

function Leads({ l }: { l: Life }) {
  const said = (seconds: number) => (seconds > 0 ? age(seconds * SECOND) : '–');
  return (
    <Section title="How long it takes" aside="medians">
      <table className="gates">
        <thead>
          <tr>
            <th scope="col">to</th>
            <th scope="col" className="num">
              images
            </th>
            <th scope="col" className="num">
              from its build
            </th>
            <th scope="col" className="num">
              asked to agreed
            </th>
            <th scope="col" className="num">
              to verified
            </th>
          </tr>
        </thead>
        <tbody>
          {l.leads.map((x) => (
            <tr key={x.environment}>
              <th scope="row">{x.environment}</th>
              <td className="num">{x.images}</td>
              <td className="num">{said(x.builtSeconds)}</td>
              <td className="num">{said(x.agreedSeconds)}</td>
              <td className="num">{said(x.movedSeconds)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Section>
  );
}
