// An image: platforms side by side as bars of their layers, what differs between their configs, labels, what is attached, the
// tags that share the digest, and where it is.
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { api, take, type Schema } from '../api/client';
import { Bytes, scaled } from '../parts/bytes';
import { Inline } from '../parts/digest';
import { Mark } from '../parts/marks';
import { buildPath, comparePath, imagePath, repositoryOf, tagsPath } from '../parts/paths';
import { RegistryNote } from '../parts/registry';
import { Ridge, hue, short } from '../parts/ridge';
import { Section } from '../parts/section';
import { Failed, Loading } from '../parts/states';
import { Age, Clock } from '../parts/time';

type Image = Schema['Image'];
type Platform = Schema['PlatformImage'];

export function ImageView() {
  const reference = useParams()['*'] ?? '';
  const image = useQuery({
    queryKey: ['image', reference],
    queryFn: () => take(api.GET('/api/v1/image', { params: { query: { reference } } })),
    staleTime: 30_000,
  });
  if (!image.data && image.isError) return <Failed error={image.error} retry={() => void image.refetch()} />;
  if (!image.data) return <Loading what={reference} />;
  const img = image.data;
  const repository = repositoryOf(reference);
  const name = `${repository.slice(repository.lastIndexOf('/') + 1)} ${img.version ?? ''}`.trim();
  return (
    <>
      <title>{`${name} · Dovrak`}</title>
      <Head img={img} name={name} reference={reference} repository={repository} />
      <div className="two">
        <div>
          <Platforms img={img} />
          <Configs platforms={img.platforms} />
          <Labels img={img} />
        </div>
        <Side img={img} repository={repository} reference={reference} />
      </div>
    </>
  );
}

function Head({ img, name, reference, repository }: { img: Image; name: string; reference: string; repository: string }) {
  const [size, unit] = scaled(img.size);
  const layers = new Set(img.platforms.flatMap((p) => p.layers.map((l) => l.digest))).size;
  const hex = img.digest.slice(7);
  return (
    <>
      <section className="top">
        <div>
          <h1>{name}</h1>
          <p className="sum">
            <b>{kindOf(img)}</b>
            {img.platforms.length > 0 && (
              <>
                , {img.platforms.length} {img.platforms.length === 1 ? 'platform' : 'platforms'}, {layers} layers
              </>
            )}
            , <b>{size}</b> <span className="unit">{unit}</span>
            {img.created && (
              <>
                ; built{' '}
                <b>
                  <Age of={img.created} />
                </b>{' '}
                ago
              </>
            )}
          </p>
          <code className="full">
            sha256:<b>{hex.slice(0, 12)}</b>
            {hex.slice(12)}
          </code>
        </div>
        <div className="hero" title={img.digest}>
          <Ridge digest={img.digest} width="100%" height={108} stretch />
        </div>
      </section>
      <div className="under">
        <span>
          <Link to={tagsPath(repository)}>{repository}</Link> &nbsp;/&nbsp;{' '}
          <code>{reference.slice(repository.length + 1, repository.length + 40)}</code>
          &nbsp;/&nbsp; seen at <Clock of={img.seen} /> UTC &nbsp;/&nbsp; <RegistryNote mark={img.registry} />
        </span>
        <span className="digits" aria-hidden="true">
          {Array.from(short(img.digest), (c, i) => (
            <span key={i}>{c}</span>
          ))}
        </span>
      </div>
    </>
  );
}

function kindOf(img: Image) {
  if (img.kind === 'index') return 'Image index';
  if (img.kind === 'image') return 'Image';
  return `${img.kind[0]!.toUpperCase()}${img.kind.slice(1)}, not an image to run`;
}

/** Platforms are bars of their layers, on one scale; a layer has the hue of its digest, equal everywhere. */
function Platforms({ img }: { img: Image }) {
  if (img.platforms.length === 0) return null;
  const most = Math.max(...img.platforms.map((p) => p.size));
  const letters = new Map<string, string>();
  for (const l of img.platforms.flatMap((p) => p.layers)) {
    if (!letters.has(l.digest)) letters.set(l.digest, String.fromCharCode(97 + (letters.size % 26)));
  }
  const on = (d: string) => img.platforms.filter((p) => p.layers.some((l) => l.digest === d));
  const layers = [...new Map(img.platforms.flatMap((p) => p.layers).map((l) => [l.digest, l])).values()];
  return (
    <>
      <Section title="Platforms" aside={`one scale; the widest is ${scaled(most).join(' ')}`}>
        {img.platforms.map((p) => (
          <div className="platform" key={p.digest}>
            <div>
              <b>{p.platform}</b> {p.osVersion && <span className="unit">{p.osVersion}</span>}
              <Inline digest={p.digest} />
            </div>
            <div className="strata" role="img" aria-label={`${p.layers.length} layers, ${scaled(p.size).join(' ')}`}>
              {p.layers.map((l, i) => (
                <span
                  key={`${l.digest}-${i}`}
                  className="seg"
                  style={{ width: `${(100 * l.size) / most}%`, background: `var(--ridge-${hue(l.digest)})` }}
                  title={`${l.digest}\n${scaled(l.size).join(' ')}`}
                >
                  {l.size > most / 25 && <em>{letters.get(l.digest)}</em>}
                </span>
              ))}
            </div>
            <div className="num">
              <b>
                <Bytes n={p.size} />
              </b>
            </div>
            {p.contradiction && (
              <p className="remark refused">
                <Mark name="refused" /> {p.contradiction}
              </p>
            )}
          </div>
        ))}
      </Section>
      <Section title="Layers" aside={`${layers.length}, equal ones in equal hue`}>
        <ul className="layers">
          {layers.map((l) => (
            <li key={l.digest}>
              <span className="sw" style={{ background: `var(--ridge-${hue(l.digest)})` }} />
              <em>{letters.get(l.digest)}</em>
              <code>{short(l.digest)}</code>
              <span className="unit">
                {on(l.digest).length === img.platforms.length && img.platforms.length > 1
                  ? 'all platforms'
                  : on(l.digest)
                      .map((p) => p.platform.replace('linux/', ''))
                      .join(', ')}
              </span>
              <span className="num">
                <Bytes n={l.size} />
              </span>
            </li>
          ))}
        </ul>
      </Section>
    </>
  );
}

/** factsOf are a config's values by name, each variable of the environment its own. */
function factsOf(p: Platform): Map<string, string> {
  const out = new Map<string, string>();
  const put = (k: string, v: string | undefined) => v && out.set(k, v);
  put('created', p.created?.replace('T', ' ').replace(/\..*|Z/, ''));
  put('entrypoint', p.entrypoint?.join(' '));
  put('command', p.command?.join(' '));
  put('user', p.user);
  put('directory', p.workingDir);
  put('ports', p.ports?.join(', '));
  put('author', p.author);
  for (const e of p.env ?? []) put(`env ${e.slice(0, e.indexOf('='))}`, e.slice(e.indexOf('=') + 1));
  return out;
}

function Configs({ platforms }: { platforms: Platform[] }) {
  const facts = platforms.map(factsOf);
  const names = [...new Set(facts.flatMap((f) => [...f.keys()]))];
  const differ = names.filter((n) => facts.some((f) => f.get(n) !== facts[0]!.get(n)));
  const equal = names.filter((n) => !differ.includes(n));
  if (names.length === 0) return null;
  return (
    <Section
      title={platforms.length > 1 ? 'Config' : 'Config of the image'}
      aside={platforms.length > 1 && `${differ.length} differ, ${equal.length} equal in all`}
    >
      <div className="scroll bare">
        <table className="lines">
          <thead>
            <tr>
              <td />
              {platforms.map((p) => (
                <th scope="col" key={p.digest}>
                  {p.platform}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {differ.map((n) => (
              <tr key={n}>
                <th scope="row">{n}</th>
                {facts.map((f, i) => (
                  <td key={i}>{f.has(n) ? <code>{f.get(n)}</code> : <span className="quiet">absent</span>}</td>
                ))}
              </tr>
            ))}
            {equal.map((n) => (
              <tr key={n}>
                <th scope="row">{n}</th>
                <td colSpan={platforms.length}>
                  <code>{facts[0]!.get(n)}</code>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </Section>
  );
}

function Labels({ img }: { img: Image }) {
  const sets = img.platforms.map((p) => p.labels ?? {});
  const rows: [string, string, string][] = [];
  for (const k of [...new Set(sets.flatMap((s) => Object.keys(s)))].sort()) {
    const values = sets.map((s) => s[k]);
    if (values.every((v) => v === values[0])) rows.push([k, values[0]!, '']);
    else values.forEach((v, i) => v !== undefined && rows.push([k, v, img.platforms[i]!.platform]));
  }
  for (const [k, v] of Object.entries(img.annotations ?? {}))
    if (!rows.some((r) => r[0] === k && r[1] === v)) rows.push([k, v, 'index']);
  if (rows.length === 0) return null;
  return (
    <Section title="Labels" aside={rows.length}>
      <ul className="labels">
        {rows.map(([k, v, of]) => (
          <li key={k + of}>
            <code>{k}</code>
            <span className="wrap-anywhere">
              {v} {of && <i className="unit">{of}</i>}
            </span>
          </li>
        ))}
      </ul>
    </Section>
  );
}

function Side({ img, repository, reference }: { img: Image; repository: string; reference: string }) {
  const where = useQuery({
    queryKey: ['where', img.digest],
    queryFn: () => take(api.GET('/api/v1/where', { params: { query: { what: img.digest } } })),
  });
  const all = where.data?.items ?? [];
  return (
    <div>
      <Made img={img} />
      <Section title="Tags that share the digest" aside="seen">
        <ul className="pairs">
          {all
            .filter((i) => i.tag)
            .map((i) => (
              <li key={`${i.repository}:${i.tag}`}>
                <span>
                  <Link to={imagePath(`${i.repository}:${i.tag}`)}>
                    <code>{i.tag}</code>
                  </Link>{' '}
                  {i.repository} {i.stands && <b>stands in {i.environment}</b>}
                </span>
                <span className="unit">
                  <Age of={i.seen} />
                </span>
              </li>
            ))}
        </ul>
        {where.isSuccess && !all.some((i) => i.tag) && <p className="note">No tag that was seen means it.</p>}
        {where.isError && <p className="note">None is known yet: look at the tags of a repository.</p>}
      </Section>
      <Section title="Compare">
        <ul className="pairs">
          {(img.tags.length > 0 || all.length > 0) && (
            <li>
              <span>with what another tag means</span>
              <Link to={comparePath(reference, '')}>choose</Link>
            </li>
          )}
          <li>
            <span>tags of {repository}</span>
            <Link to={tagsPath(repository)}>{img.tags.length} share it</Link>
          </li>
        </ul>
      </Section>
      <Besides title="Attached" all={img.referrers} none="Nothing is attached." repository={repository} />
      {img.referrersProblem && <p className="note waits">What is attached could not be listed: {img.referrersProblem}</p>}
      {img.beside.length > 0 && <Besides title="Beside, in the index" all={img.beside} none="" repository={repository} />}
      <Section title="Exact">
        <p className="exact wrap-anywhere">
          <code>{img.reference}</code>
        </p>
      </Section>
    </div>
  );
}

/** Made names the builds that made the image, and what is on record for it. */
function Made({ img }: { img: Image }) {
  return (
    <>
      {img.builds.length > 0 && (
        <Section title="Made by">
          <ul className="pairs">
            {img.builds.map((b) => (
              <li key={`${b.component}/${b.number}`}>
                <span>
                  <Link to={buildPath(b.component, b.number)}>
                    {b.component} build {b.number}
                  </Link>{' '}
                  <code>{b.commit.slice(0, 12)}</code> on {b.branch}
                </span>
                {b.link && (
                  <a href={b.link} rel="noreferrer">
                    run
                  </a>
                )}
              </li>
            ))}
          </ul>
        </Section>
      )}
      <Section title="Evidence" aside={img.evidence.length + img.attestations.length || undefined}>
        <ul className="pairs">
          {img.evidence.map((v) => (
            <li key={v.number}>
              <span>
                <Verdict v={v} /> {v.platform && <span className="unit">{v.platform} </span>}
                {v.link && (
                  <a href={v.link} rel="noreferrer">
                    more
                  </a>
                )}{' '}
                {v.reportSize > 0 && <a href={`/api/v1/evidence/${v.number}/report`}>{v.report || 'report'}</a>}
                <span className="unit block">
                  by {v.by}
                  {v.note && `: ${v.note}`}
                </span>
              </span>
              <span className={v.expired ? 'waits' : 'unit'}>{v.expired ? 'expired' : <Age of={v.at} />}</span>
            </li>
          ))}
          {img.attestations.map((a) => (
            <li key={a.digest}>
              <span>
                <Attested a={a} /> <span className="unit block wrap-anywhere">{a.builder ?? a.predicate}</span>
              </span>
              <code>{short(a.of)}</code>
            </li>
          ))}
        </ul>
        {img.evidence.length + img.attestations.length === 0 && (
          <p className="note">
            Nothing is on record: <code>dovrak vouch IMAGE@DIGEST --claim … --verdict …</code>
          </p>
        )}
      </Section>
    </>
  );
}

function Verdict({ v }: { v: Schema['Vouch'] }) {
  const tone = { passed: '', failed: 'refused', noted: 'waits' }[v.verdict];
  const mark = { passed: 'holds', failed: 'refused', noted: 'waits' } as const;
  return (
    <span className={tone}>
      <Mark name={mark[v.verdict]} /> <b>{v.claim}</b> {v.verdict}
    </span>
  );
}

/** Attested says what an attestation is worth. */
function Attested({ a }: { a: Schema['Attestation'] }) {
  if (a.problem) return <span className="waits">attestation: {a.problem}</span>;
  if (!a.fits) return <span className="refused">attestation of another image</span>;
  if (!a.key)
    return (
      <span className="waits">
        <Mark name="waits" /> attested, unverified
      </span>
    );
  return (
    <>
      <Mark name="holds" /> attested, verified by {a.key}
    </>
  );
}

function Besides({ title, all, none, repository }: { title: string; all: Schema['Beside'][]; none: string; repository: string }) {
  return (
    <Section title={title} aside={all.length || undefined}>
      <ul className="pairs">
        {all.map((b) => (
          <li key={b.digest}>
            <span>
              <Link to={imagePath(`${repository}@${b.digest}`)}>{b.kind}</Link> <code>{b.type}</code>
            </span>
            <Bytes n={b.size} />
          </li>
        ))}
      </ul>
      {all.length === 0 && <p className="note">{none}</p>}
    </Section>
  );
}
