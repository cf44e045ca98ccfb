// A repository's tags: what each means, since when, and which share an image. Asked of the registry when the page opens, unless
// that was done within a minute; the rows come as they are seen.
import { useEffect, useState } from 'react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, take, Problem, type Schema } from '../api/client';
import { Bytes } from '../parts/bytes';
import { Inline } from '../parts/digest';
import { Mark } from '../parts/marks';
import { comparePath, imagePath } from '../parts/paths';
import { RegistryNote } from '../parts/registry';
import { Empty, Failed, Loading } from '../parts/states';
import { Age } from '../parts/time';

type Look = Schema['TagsLook'];
type Order = 'version' | 'name' | 'age' | 'size';
const orders: Order[] = ['version', 'name', 'age', 'size'];

/**
 * useLook has the registry asked, and tells how far that is. ended is part of the list's question: an answer from before the
 * end must not pass for one from behind it.
 */
function useLook(repository: string) {
  const [look, setLook] = useState<Look>();
  const [ended, setEnded] = useState(false);
  useEffect(() => {
    setLook(undefined);
    setEnded(false);
    const stream = new EventSource(`/api/v1/tags/look?${new URLSearchParams({ repository })}`);
    const end = () => {
      stream.close();
      setEnded(true);
    };
    stream.onmessage = (e: MessageEvent<string>) => {
      const l = JSON.parse(e.data) as Look;
      setLook(l);
      if (l.done || l.problem) end();
    };
    stream.onerror = end; // a refusal has its words in the list's own answer; a broken stream leaves what was seen
    return () => stream.close();
  }, [repository]);
  return { look, ended, failed: look?.problem && new Problem(look.problem) };
}

export function TagsView() {
  const repository = useParams()['*'] ?? '';
  const [params, setParams] = useSearchParams();
  const order = (orders.find((o) => o === params.get('order')) ?? 'version') as Order;
  const match = params.get('match') ?? '';
  const pick = params.get('a');
  const { look, ended, failed } = useLook(repository);
  const list = useQuery({
    queryKey: ['tags', repository, order, match, ended],
    placeholderData: keepPreviousData, // a field must not go away while one types into it
    queryFn: () => take(api.GET('/api/v1/tags', { params: { query: { repository, order, limit: 1000, ...(match && { match }) } } })),
  });
  const set = (k: string, v: string) =>
    setParams(
      (p) => {
        if (v) p.set(k, v);
        else p.delete(k);
        return p;
      },
      { replace: true },
    );
  if (!list.data && list.isError) return <Failed error={list.error} retry={() => void list.refetch()} />;
  if (!list.data) return <Loading what={`the tags of ${repository}`} />;
  const l = list.data;
  return (
    <>
      <title>{`${repository} · Dovrak`}</title>
      <header className="head">
        <h1>{repository}</h1>
        <p className="note">
          <b>{l.tags}</b> tags of <b>{l.images}</b> images,{' '}
          {l.surveyed ? (
            <>
              all seen <Age of={l.surveyed} /> ago
            </>
          ) : (
            'never looked at as a whole'
          )}
          ; <RegistryNote mark={l.registry} />
          <Asking look={look} />
        </p>
      </header>
      {failed && <Failed error={failed} />}
      <form className="filters" onSubmit={(e) => e.preventDefault()}>
        <label>
          pattern{' '}
          <input
            className="field"
            type="search"
            defaultValue={match}
            placeholder="build-*"
            onChange={(e) => set('match', e.target.value)}
          />
        </label>
        <label>
          order{' '}
          <select className="field" value={order} onChange={(e) => set('order', e.target.value)}>
            {orders.map((o) => (
              <option key={o}>{o}</option>
            ))}
          </select>
        </label>
        {pick && (
          <span className="note">
            comparing <code>{pick}</code> with … choose another, or{' '}
            <button type="button" className="text-btn" onClick={() => set('a', '')}>
              do not
            </button>
          </span>
        )}
      </form>
      {l.items.length === 0 ? (
        <Empty title={match ? `No tag like “${match}”` : 'No tag was seen here yet'}>
          A pipeline’s push fills it, or <code>dovrak copy IMAGE {repository}</code>
        </Empty>
      ) : (
        <TagTable l={l} pick={pick} choose={(t) => set('a', t)} />
      )}
      {l.next && <p className="note">There are more; name a pattern.</p>}
    </>
  );
}

function Asking({ look }: { look: Look | undefined }) {
  if (!look || look.done || look.kept || look.problem) return null;
  return (
    <span role="status" className="waits">
      {' '}
      asking: {look.tags} tags, {look.images} new images
    </span>
  );
}

function TagTable({ l, pick, choose }: { l: Schema['Tags']; pick: string | null; choose: (tag: string) => void }) {
  return (
    <div className="scroll" tabIndex={0} role="region" aria-label="Tags">
      <table className="lines">
        <thead>
          <tr>
            <th scope="col">tag</th>
            <th scope="col" />
            <th scope="col">image</th>
            <th scope="col">version</th>
            <th scope="col">means it for</th>
            <th scope="col" className="num">
              size
            </th>
            <th scope="col">platforms</th>
            <th scope="col">also</th>
            <th scope="col" />
          </tr>
        </thead>
        <tbody>
          {l.items.map((t) => (
            <tr key={t.tag}>
              <th scope="row">
                <Link className="plain" to={imagePath(`${l.repository}:${t.tag}`)}>
                  <b>{t.tag}</b>
                </Link>
              </th>
              <td className="quiet">{t.rule}</td>
              <td>
                <Inline digest={t.digest} />
              </td>
              <td>{t.version}</td>
              <td>
                {t.decided ? (
                  <Age of={t.since} />
                ) : t.created ? (
                  <span className="unit">
                    built <Age of={t.created} /> ago
                  </span>
                ) : (
                  <Age of={t.since} />
                )}
              </td>
              <td className="num">
                <Bytes n={t.size} />
              </td>
              <td>
                {t.problem ? (
                  <span className="refused">
                    <Mark name="refused" /> {t.problem}
                  </span>
                ) : t.kind === 'index' || t.kind === 'image' ? (
                  t.platforms.map((p) => p.replace('linux/', '')).join(', ')
                ) : (
                  <i>{t.kind}</i>
                )}
              </td>
              <td className="unit">
                {t.with.join(', ')}
                {t.shares > t.with.length && ` and ${t.shares - t.with.length} more`}
              </td>
              <td>
                {pick && pick !== t.tag ? (
                  <Link to={comparePath(`${l.repository}:${pick}`, `${l.repository}:${t.tag}`)}>with this</Link>
                ) : (
                  <button type="button" className="text-btn" onClick={() => choose(t.tag)}>
                    compare
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
