// Signing in: a token is traded for a session that no script can read.
import { useState, type FormEvent } from 'react';
import { useSearchParams } from 'react-router';
import { api, queries, take } from '../api/client';
import { Summit } from '../parts/marks';
import { Failed } from '../parts/states';

export function SignIn() {
  const [error, setError] = useState<Error>();
  const [busy, setBusy] = useState(false);
  const [params] = useSearchParams();
  const submit = async (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const token = String(new FormData(e.currentTarget).get('token'));
    setBusy(true);
    try {
      await take(api.POST('/api/v1/session', { body: { token } }));
      queries.clear();
      const to = params.get('to') ?? '/';
      window.location.assign(/^\/(?!\/)/.test(to) ? to : '/'); // never to another site
    } catch (err) {
      setError(err as Error);
      setBusy(false);
    }
  };
  return (
    <div className="sheet">
      <header className="mast">
        <span className="wordmark">
          <Summit />
          Dovrak
        </span>
      </header>
      <main className="max-w-104">
        <h1 className="mt-12 mb-5">Sign in</h1>
        <form className="grid gap-2" onSubmit={(e) => void submit(e)}>
          <label htmlFor="token">Token</label>
          <input id="token" name="token" type="password" autoComplete="current-password" required autoFocus className="field" />
          <button type="submit" className="btn go mt-2 justify-self-start" disabled={busy}>
            Sign in
          </button>
        </form>
        <p className="note mt-6">
          Whoever keeps the service issues one: <code>dovrak token issue NAME --may read</code>
        </p>
        {error && <Failed error={error} />}
      </main>
    </div>
  );
}
