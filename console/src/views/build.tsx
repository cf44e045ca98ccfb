// One build: its parts as they arrive, the tags it got and those that stayed, what it changed and what it was made from.
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { api, queries, take, type Schema } from '../api/client';
import { BuildState, Commit } from '../parts/build';
import { Bytes } from '../parts/bytes';
import { Inline } from '../parts/digest';
import { Mark } from '../parts/marks';
import { buildPath, buildsPath, comparePath, imagePath } from '../parts/paths';
import { Ridge } from '../parts/ridge';
import { Section } from '../parts/section';
import { Failed, Loading } from '../parts/states';
import { Age, Clock } from '../parts/time';
import { Problem } from '../api/client';

type Build = Schema['Build'];

export function BuildView() {
  const { component = '', number = '' } = useParams();
  const path = { name: component, number: Number(number) };
  const build = useQuery({
    queryKey: ['build', component, number],
    queryFn: () => take(api.GET('/api/v1/components/{name}/builds/{number}', { params: { path } })),
  });
  if (!build.data && build.isError) return <Failed error={build.error} retry={() => void build.refetch()} />;
  if (!build.data) return <Loading what={`build ${number} of ${component}`} />;
  const b = build.data;
  return (
    <>
      <title>{`${component} ${number} · Dovrak`}</title>
      <Head b={b} />
      <div className="two">
        <div>
          {b.problem && <Failed error={new Problem(b.problem)} />}
          {(b.state === 'failed' || b.state === 'incomplete') && b.missing.length === 0 && <CloseAgain b={b} />}
          <Parts b={b} />
          <Tags b={b} />
          <Changes b={b} />
        </div>
        <Side b={b} />
      </div>
    </>
  );
}

function Head({ b }: { b: Build }) {
  return (
    <>
      <section className="top">
        <div>
          <h1>
            {b.component} {b.number}
          </h1>
          <p className="sum">
            {b.version && (
              <>
                <b>{b.version}</b>,{' '}
              </>
            )}
            <BuildState build={b} />
            {b.missing.length > 0 && (
              <>
                ; awaited until <Clock of={b.due} /> UTC: <b>{b.missing.join(', ')}</b>
              </>
            )}
          </p>
          {b.digest ? (
            <code className="full">
              sha256:<b>{b.digest.slice(7, 19)}</b>
              {b.digest.slice(19)}
            </code>
          ) : (
            <p className="note pb-2">Its image is joined when every required platform is in.</p>
          )}
        </div>
        {b.digest && (
          <div className="hero" title={b.digest}>
            <Ridge digest={b.digest} width="100%" height={108} stretch />
          </div>
        )}
      </section>
      <div className="under">
        <span>
          <Link to={buildsPath(b.component)}>builds of {b.component}</Link> &nbsp;/&nbsp; {b.branch}{' '}
          <code>{b.commit.slice(0, 12)}</code> &nbsp;/&nbsp; reported <Age of={b.reported} /> ago by {b.by}
        </span>
        {b.digest && <Link to={imagePath(`${b.places[0]}@${b.digest}`)}>the image</Link>}
      </div>
    </>
  );
}

/** CloseAgain is the one decision on the page, where there is one. */
function CloseAgain({ b }: { b: Build }) {
  const close = useMutation({
    mutationFn: () =>
      take(
        api.POST('/api/v1/components/{name}/builds/{number}/close', {
          params: { path: { name: b.component, number: b.number } },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['build'] }),
  });
  return (
    <div className="mb-4">
      <button type="button" className="btn go" disabled={close.isPending} onClick={() => close.mutate()}>
        Close it again
      </button>
      {close.isError && <Failed error={close.error} />}
    </div>
  );
}

function Parts({ b }: { b: Build }) {
  const most = Math.max(1, ...b.parts.map((p) => p.seconds ?? 0));
  return (
    <Section title="Parts" aside={`${b.parts.length} of ${b.required.length} required`}>
      <div className="scroll bare" tabIndex={0} role="region" aria-label="Parts">
        <table className="lines">
          <thead>
            <tr>
              <th scope="col">platform</th>
              <th scope="col">part</th>
              <th scope="col">built in</th>
              <th scope="col" className="num">
                size
              </th>
              <th scope="col" className="num">
                arrived
              </th>
            </tr>
          </thead>
          <tbody>
            {b.parts.map((p) => (
              <tr key={p.platform}>
                <th scope="row">
                  <b>{p.platform}</b>
                  {p.warnings.map((w) => (
                    <span key={w} className="waits block">
                      <Mark name="waits" /> {w}
                    </span>
                  ))}
                </th>
                <td>
                  <Inline digest={p.digest} />
                  {p.repository !== b.places[0] && <span className="unit block">from {p.repository}</span>}
                </td>
                <td>
                  <Took part={p} most={most} />
                </td>
                <td className="num">
                  <Bytes n={p.size} />
                </td>
                <td className="num unit">
                  <Clock of={p.reported} />
                </td>
              </tr>
            ))}
            {b.missing.map((m) => (
              <tr key={m}>
                <th scope="row">
                  <b>{m}</b>
                </th>
                <td colSpan={4} className="waits">
                  <Mark name="waits" /> awaited
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {b.warnings.map((w) => (
        <p key={w} className="note waits">
          <Mark name="waits" /> {w}
        </p>
      ))}
    </Section>
  );
}

/** Took is how long a platform took, as a bar on the scale of the longest. */
function Took({ part, most }: { part: Schema['BuildPart']; most: number }) {
  if (part.seconds === undefined) return <span className="quiet">not said</span>;
  return (
    <span className="took">
      <span style={{ width: `${(100 * part.seconds) / most}%` }} />
      {Math.round(part.seconds)} <i className="unit">s{part.emulated && ', emulated'}</i>
    </span>
  );
}

function Tags({ b }: { b: Build }) {
  return (
    <Section title="Tags" aside={`by the rules of ${b.environment}`}>
      <table className="lines">
        <tbody>
          {b.tags.map((t) => (
            <tr key={`${t.repository}:${t.tag}`}>
              <th scope="row">
                {t.outcome ? (
                  <Link to={imagePath(`${t.repository}:${t.tag}`)}>
                    <b>{t.tag}</b>
                  </Link>
                ) : (
                  <b>{t.tag}</b>
                )}
                {b.places.length > 1 && <span className="unit"> {t.repository}</span>}
              </th>
              <td>
                {t.kind} <code>{t.rule}</code>
              </td>
              <td>
                <Outcome t={t} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {b.tags.length === 0 && <p className="note">No rule makes a tag for it.</p>}
    </Section>
  );
}

function Outcome({ t }: { t: Schema['BuildTag'] }) {
  if (t.outcome === 'points')
    return (
      <>
        <Mark name="holds" /> means this build{t.change ? <span className="unit">, change {t.change}</span> : null}
      </>
    );
  if (t.outcome === 'stays')
    return (
      <span className="waits">
        <Mark name="same" /> stays: {t.why}
      </span>
    );
  return <span className="quiet">not yet</span>;
}

function Changes({ b }: { b: Build }) {
  if (b.changes.length === 0) return null;
  return (
    <Section title="Changes" aside={b.before ? `since build ${b.before}` : undefined}>
      <ul className="labels">
        {b.changes.map((c) => (
          <li key={c.id}>
            <span className="wrap-anywhere">{c.title}</span>
            <code>{c.id.slice(0, 12)}</code>
          </li>
        ))}
      </ul>
    </Section>
  );
}

/** outside is a plain link to another system. */
const outside = (href: string) => (
  <a href={href} rel="noreferrer">
    {href.replace(/^https?:\/\//, '')}
  </a>
);

function Side({ b }: { b: Build }) {
  const before = b.before;
  return (
    <div>
      <Section title="Made from">
        <ul className="pairs stack">
          <Fact name="commit">
            <Commit of={b} whole /> on {b.branch}
          </Fact>
          {b.trigger && <Fact name="started by">{b.trigger}</Fact>}
          {b.link && <Fact name="pipeline run">{outside(b.link)}</Fact>}
          {b.source && <Fact name="source">{outside(b.source)}</Fact>}
          {b.base && (
            <Fact name="base">
              {b.base} {b.baseDigest && <Inline digest={b.baseDigest} />}
            </Fact>
          )}
          {b.given && <Fact name="pushed whole as">{b.given}</Fact>}
        </ul>
      </Section>
      {b.promise && <Promised b={b} promise={b.promise} />}
      {before && (
        <Section title="Compare">
          <ul className="pairs">
            <li>
              <span>
                with <Link to={buildPath(b.component, before)}>build {before}</Link>
              </span>
              {b.digest && <Link to={comparePath(`${b.places[0]}:build-${before}`, `${b.places[0]}@${b.digest}`)}>side by side</Link>}
            </li>
          </ul>
        </Section>
      )}
    </div>
  );
}

function Fact({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <li>
      <span className="unit">{name}</span>
      <span className="wrap-anywhere">{children}</span>
    </li>
  );
}

function Promised({ b, promise }: { b: Build; promise: Schema['Promise'] }) {
  return (
    <Section title={`Promise of ${promise.version}`}>
      <p className="note">
        {promise.keptBy ? (
          <>
            <Mark name="holds" /> kept by {promise.keptBy === `${b.component}/${b.number}` ? 'this build' : promise.keptBy}: its digest
            was read back from the registry
          </>
        ) : (
          <span className="waits">
            <Mark name="waits" /> open: no image keeps it yet
          </span>
        )}
        {promise.tries > 0 && (
          <span className="refused">
            {' '}
            <Mark name="refused" /> {promise.tries} {promise.tries === 1 ? 'try' : 'tries'} failed
          </span>
        )}
      </p>
    </Section>
  );
}
