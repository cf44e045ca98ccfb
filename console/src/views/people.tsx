// People: who signs in, in which groups the charter puts them, and what they may at this moment.
import { useMutation, useQuery } from '@tanstack/react-query';
import { api, queries, take, type Schema } from '../api/client';
import { Mark } from '../parts/marks';
import { Empty, Failed, Loading } from '../parts/states';
import { Age } from '../parts/time';
import { useWho } from '../parts/who';

type Person = Schema['Person'];

export function PeopleView() {
  const people = useQuery({ queryKey: ['people'], queryFn: () => take(api.GET('/api/v1/people')) });
  const keeps = useWho().data?.may.includes('keep') ?? false;
  if (!people.data && people.isError) return <Failed error={people.error} retry={() => void people.refetch()} />;
  if (!people.data) return <Loading what="people" />;
  const { items } = people.data;
  return (
    <>
      <title>People · Dovrak</title>
      <header className="head">
        <h1>People</h1>
        <p className="note">
          What each may follows from the charter in force, at every request; a right that is withdrawn ends at once.
        </p>
      </header>
      {items.length === 0 ? (
        <Empty title="Nobody has an account yet">
          <code>dovrak people add NAME</code> gives someone one; or the charter names the issuer at which people sign in, under{' '}
          <code>people</code>.
        </Empty>
      ) : (
        <div className="scroll" tabIndex={0} role="region" aria-label="People">
          <table className="lines">
            <thead>
              <tr>
                <th scope="col">person</th>
                <th scope="col">groups</th>
                <th scope="col">may</th>
                <th scope="col">promotes to</th>
                <th scope="col">rolls back in</th>
                <th scope="col">approves in</th>
                <th scope="col">signs in by</th>
                {keeps && <th scope="col" aria-label="rights" />}
              </tr>
            </thead>
            <tbody>
              {items.map((p) => (
                <Row key={p.name} p={p} keeps={keeps} />
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  );
}

const others = ['promote', 'roll-back', 'approve']; // said with their environments

function Row({ p, keeps }: { p: Person; keeps: boolean }) {
  return (
    <tr className={p.withdrawn ? 'quiet' : undefined}>
      <th scope="row">
        <b>{p.name}</b>
        {p.email && <span className="unit"> {p.email}</span>}
      </th>
      <td>{p.groups.join(', ')}</td>
      <td>
        {p.withdrawn ? (
          <span className="refused">
            <Mark name="refused" /> nothing, for <Age of={p.withdrawn} />
          </span>
        ) : (
          p.may
            .filter(
              (m) =>
                !others.includes(m) ||
                (m === 'promote' && p.promotesIn.length === 0) ||
                (m === 'roll-back' && p.rollsBackIn.length === 0),
            )
            .join(', ')
        )}
      </td>
      <td>{p.promotesIn.join(', ')}</td>
      <td>{p.rollsBackIn.join(', ')}</td>
      <td>{p.approvesIn.join(', ')}</td>
      <td>
        {p.accounts.map((a) => (
          <span key={a.issuer ?? ''} className="block">
            {a.issuer ? new URL(a.issuer).host : 'a password'}
            <span className="unit">
              {a.seen && (
                <>
                  , <Age of={a.seen} /> ago
                </>
              )}
              {a.invited && ', invited'}
            </span>
          </span>
        ))}
      </td>
      {keeps && (
        <td>
          <Rights p={p} />
        </td>
      )}
    </tr>
  );
}

/** Rights withdraws everything someone may, or gives it back. */
function Rights({ p }: { p: Person }) {
  const turn = useMutation({
    mutationFn: () => {
      const params = { path: { name: p.name } };
      return take(
        p.withdrawn ? api.POST('/api/v1/people/{name}/restore', { params }) : api.POST('/api/v1/people/{name}/withdraw', { params }),
      );
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ['people'] }),
  });
  return (
    <>
      <button type="button" className="text-btn" disabled={turn.isPending} onClick={() => turn.mutate()}>
        {p.withdrawn ? 'give back' : 'withdraw'}
        <span className="sr"> the rights of {p.name}</span>
      </button>
      {turn.isError && <span className="refused note block">{turn.error.message}</span>}
    </>
  );
}
