// Signing in: at the organisation's issuer, by an account of Dovrak's own, or with a token. Each ends in a session that no script can read.
import { useState, type FormEvent, type ReactNode } from 'react';
import { useQuery } from '@tanstack/react-query';
import { useSearchParams } from 'react-router';
import { api, queries, take, type Schema } from '../api/client';
import { Summit } from '../parts/marks';
import { Failed } from '../parts/states';

/** localPage is the page to go to, never one of another site. */
const localPage = (to: string | null) => (to && /^\/(?![/\\])/.test(to) ? to : '/');

/** failed is why a sign-in at the issuer came to nothing: the service leaves it in a cookie, for this page alone. */
function failed(): string {
  const found = /(?:^|; )dovrak_signin_failed=([^;]*)/.exec(document.cookie);
  return found?.[1] ? decodeURIComponent(found[1].replaceAll('+', ' ')) : '';
}

export function SignIn() {
  const [error, setError] = useState<Error>();
  const [busy, setBusy] = useState(false);
  const [params] = useSearchParams();
  const to = localPage(params.get('to'));
  const ways = useQuery({ queryKey: ['ways'], queryFn: () => take(api.GET('/api/v1/sign-in')) });
  const [why] = useState(failed);

  /** enter opens the session, after whatever has to be done first. */
  const enter = async (body: Schema['SignIn'], first?: () => Promise<unknown>) => {
    setBusy(true);
    try {
      await first?.();
      await take(api.POST('/api/v1/session', { body }));
      queries.clear();
      window.location.assign(to);
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
      <main className="signin">
        <h1>Sign in</h1>
        {why && (
          <p className="refused" role="alert">
            {why}
          </p>
        )}
        {ways.data?.issuer && (
          <p>
            <a className="btn go" href={`/api/v1/sign-in/begin?to=${encodeURIComponent(to)}`}>
              Sign in at {new URL(ways.data.issuer).host}
            </a>
          </p>
        )}
        {error && <Failed error={error} />}
        <Way name="With an account" open={ways.isSuccess && !ways.data.issuer}>
          <Account enter={enter} busy={busy} />
        </Way>
        <Way name="With an invitation">
          <Invitation enter={enter} busy={busy} />
        </Way>
        <Way name="With a token">
          <Token enter={enter} busy={busy} />
        </Way>
      </main>
    </div>
  );
}

type Enter = { enter: (body: Schema['SignIn'], first?: () => Promise<unknown>) => Promise<void>; busy: boolean };

function Way({ name, open, children }: { name: string; open?: boolean; children: ReactNode }) {
  return (
    <details open={open}>
      <summary>{name}</summary>
      {children}
    </details>
  );
}

/** said reads a field of the form that was sent. */
const said = (e: FormEvent<HTMLFormElement>, field: string) => {
  e.preventDefault();
  return String(new FormData(e.currentTarget).get(field));
};

function Field({ id, label, type, complete }: { id: string; label: string; type: 'text' | 'password'; complete: string }) {
  return (
    <>
      <label htmlFor={id}>{label}</label>
      <input id={id} name={id} type={type} autoComplete={complete} required className="field" />
    </>
  );
}

function Account({ enter, busy }: Enter) {
  return (
    <form onSubmit={(e) => void enter({ name: said(e, 'name'), password: said(e, 'password') })}>
      <Field id="name" label="Name" type="text" complete="username" />
      <Field id="password" label="Password" type="password" complete="current-password" />
      <button type="submit" className="btn" disabled={busy}>
        Sign in
      </button>
    </form>
  );
}

function Invitation({ enter, busy }: Enter) {
  const submit = (e: FormEvent<HTMLFormElement>) => {
    const body = { name: said(e, 'invited'), invitation: said(e, 'invitation'), password: said(e, 'chosen') };
    void enter({ name: body.name, password: body.password }, () => take(api.POST('/api/v1/sign-in/password', { body })));
  };
  return (
    <form onSubmit={submit}>
      <Field id="invited" label="Name" type="text" complete="username" />
      <Field id="invitation" label="Invitation" type="password" complete="one-time-code" />
      <Field id="chosen" label="New password, at least 12 letters" type="password" complete="new-password" />
      <button type="submit" className="btn" disabled={busy}>
        Set it and sign in
      </button>
    </form>
  );
}

function Token({ enter, busy }: Enter) {
  return (
    <form onSubmit={(e) => void enter({ token: said(e, 'token') })}>
      <Field id="token" label="Token" type="password" complete="off" />
      <button type="submit" className="btn" disabled={busy}>
        Sign in
      </button>
      <p className="note">
        Whoever keeps the service issues one to a machine: <code>dovrak token issue NAME --may read</code>
      </p>
    </form>
  );
}
