// Connecting a registry, changing a connection, ending one. A secret is typed in and never read back.
import { useState } from 'react';
import { useMutation } from '@tanstack/react-query';
import { Dialog } from 'radix-ui';
import { api, queries, take, type Schema } from '../api/client';
import { Failed } from '../parts/states';

type Registry = Schema['Registry'];
type Settings = Omit<Schema['NewRegistry'], 'name'>;

/** settingsOf takes what was filled in; what was left empty stays as it is. */
function settingsOf(f: FormData): Settings {
  const text = (k: string) => String(f.get(k) ?? '').trim();
  const s: Settings = { address: text('address') };
  if (text('ca')) s.ca = text('ca');
  if (text('cert') && text('key')) {
    s.clientCert = text('cert');
    s.clientKey = text('key');
  }
  if (f.get('plain')) s.plain = true;
  if (f.has('hosts')) s.signInHosts = text('hosts').split(/\s+/).filter(Boolean);
  if (text('owner')) {
    s.unverifiedOwner = text('owner');
    s.unverifiedUntil = `${text('until')}T00:00:00Z`;
  }
  if (f.get('verify')) s.unverifiedOwner = '';
  if (f.get('way') === 'secret' && text('secret')) {
    s.account = text('account');
    s.secret = text('secret');
  }
  if (f.get('way') === 'source') s.secretSource = text('source');
  if (f.get('way') === 'none') s.anonymous = true;
  if (text('requests')) s.requestsPerSecond = Number(text('requests'));
  if (text('transfers')) s.transfersAtOnce = Number(text('transfers'));
  if (text('bytes')) s.bytesPerSecond = Number(text('bytes')) * 1024;
  if (text('labels'))
    s.labels = Object.fromEntries(
      text('labels')
        .split(/\s+/)
        .map((l) => [l.split('=')[0]!, l.split('=')[1] ?? '']),
    );
  return s;
}

export function ConnectDialog({ edit }: { edit?: Registry }) {
  const [open, setOpen] = useState(false);
  const save = useMutation({
    mutationFn: ({ name, settings }: { name: string; settings: Settings }) =>
      edit
        ? take(api.PATCH('/api/v1/registries/{name}', { params: { path: { name } }, body: settings }))
        : take(api.POST('/api/v1/registries', { body: { name, ...settings } })),
    onSuccess: () => {
      setOpen(false);
      return queries.invalidateQueries({ queryKey: ['registries'] });
    },
  });
  return (
    <Dialog.Root
      open={open}
      onOpenChange={(o) => {
        save.reset();
        setOpen(o);
      }}
    >
      <Dialog.Trigger asChild>
        <button type="button" className="text-btn">
          {edit ? 'Change the connection' : 'Connect a registry'}
        </button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="veil" />
        <Dialog.Content className="sheet-over wide-sheet" aria-describedby={undefined}>
          <Dialog.Title asChild>
            <h2>{edit ? `Change ${edit.name}` : 'Connect a registry'}</h2>
          </Dialog.Title>
          <form
            className="form"
            onSubmit={(e) => {
              e.preventDefault();
              const f = new FormData(e.currentTarget);
              save.mutate({ name: edit?.name ?? String(f.get('name')).trim(), settings: settingsOf(f) });
            }}
          >
            <Fields edit={edit} />
            {save.isError && <Failed error={save.error} />}
            <p className="filters">
              <button type="submit" className="btn go" disabled={save.isPending}>
                {save.isPending ? 'Asking the registry …' : edit ? 'Change' : 'Connect'}
              </button>
              <Dialog.Close asChild>
                <button type="button" className="btn">
                  Leave it
                </button>
              </Dialog.Close>
            </p>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Fields({ edit }: { edit: Registry | undefined }) {
  const [way, setWay] = useState(edit ? 'keep' : 'secret');
  return (
    <>
      {!edit && <Field name="name" label="short name" placeholder="hut" required />}
      <Field name="address" label="address" placeholder="https://hut.example:5000" value={edit?.address} required />
      <label>
        <span>credential</span>
        <select className="field" name="way" value={way} onChange={(e) => setWay(e.target.value)}>
          {edit && <option value="keep">the one it has</option>}
          <option value="secret">account and secret</option>
          <option value="source">a secret source of the server</option>
          <option value="none">none</option>
        </select>
      </label>
      {way === 'secret' && (
        <>
          <Field name="account" label="account" value={edit?.account} required />
          <Field name="secret" label="secret" type="password" required note="sealed, and never shown again" />
        </>
      )}
      {way === 'source' && (
        <Field name="source" label="source" value={edit?.secretSource} required note="by the name that the server's settings give it" />
      )}
      <label>
        <span>own CA</span>
        <textarea
          className="field"
          name="ca"
          rows={3}
          placeholder={edit?.ownCA ? 'it has one; paste another to replace it' : 'PEM, or nothing for the system’s trust'}
        />
      </label>
      <Field name="requests" label="requests a second" value={edit?.requestsPerSecond.toString()} placeholder="50" />
      <Field name="transfers" label="transfers at once" value={edit?.transfersAtOnce.toString()} placeholder="4" />
      <Field
        name="bytes"
        label="KiB a second"
        value={edit?.bytesPerSecond ? (edit.bytesPerSecond / 1024).toString() : ''}
        placeholder="no limit; 0 takes one away"
      />
      <Field
        name="labels"
        label="labels"
        placeholder="region=valley kind=hosted"
        value={
          edit &&
          Object.entries(edit.labels)
            .map(([k, v]) => `${k}=${v}`)
            .join(' ')
        }
      />
      <Rare edit={edit} />
    </>
  );
}

/** Rare is what few registries need: it is folded away. */
function Rare({ edit }: { edit: Registry | undefined }) {
  const [open, unfold] = useState(false);
  if (!open) {
    return (
      <button type="button" className="text-btn" onClick={() => unfold(true)}>
        client certificate, other sign-in hosts, exceptions
      </button>
    );
  }
  return (
    <>
      <label>
        <span>client certificate</span>
        <textarea
          className="field"
          name="cert"
          rows={2}
          placeholder={edit?.clientCert ? 'it has one; paste another with its key' : 'PEM'}
        />
      </label>
      <label>
        <span>its key</span>
        <textarea className="field" name="key" rows={2} placeholder="PEM; sealed, and never shown again" />
      </label>
      <Field
        name="hosts"
        label="sign-in hosts"
        value={edit?.signInHosts.join(' ')}
        note="other hosts to which its sign-in may send the credential"
      />
      <label className="check">
        <span>plain HTTP</span>
        <span>
          <input type="checkbox" name="plain" defaultChecked={edit?.plain} /> to another machine: everything may be read on the way
        </span>
      </label>
      {edit?.exception ? (
        <label className="check">
          <span>certificates</span>
          <span>
            <input type="checkbox" name="verify" /> check them again, now
          </span>
        </label>
      ) : (
        <>
          <Field name="owner" label="leave certificates unchecked" note="who answers for it; better, paste the CA above" />
          <Field name="until" label="until" type="date" note="at most 31 days" />
        </>
      )}
    </>
  );
}

type FieldProps = {
  name: string;
  label: string;
  value?: string | undefined;
  placeholder?: string;
  type?: string;
  required?: boolean;
  note?: string;
};

function Field({ name, label, value, placeholder, type = 'text', required, note }: FieldProps) {
  return (
    <label>
      <span>{label}</span>
      <input
        className="field"
        name={name}
        type={type}
        defaultValue={value}
        placeholder={placeholder}
        required={required}
        autoComplete="off"
      />
      {note && <i className="unit">{note}</i>}
    </label>
  );
}

/** DropDialog ends a connection, after its name was typed. */
export function DropDialog({ name, gone }: { name: string; gone: () => void }) {
  const [open, setOpen] = useState(false);
  const [typed, type] = useState('');
  const drop = useMutation({
    mutationFn: () => take(api.DELETE('/api/v1/registries/{name}', { params: { path: { name } } })),
    onSuccess: async () => {
      setOpen(false);
      await queries.invalidateQueries({ queryKey: ['registries'] });
      gone();
    },
  });
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <button type="button" className="text-btn">
          Drop it
        </button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="veil" />
        <Dialog.Content className="sheet-over" aria-describedby={undefined}>
          <Dialog.Title asChild>
            <h2>Drop {name}</h2>
          </Dialog.Title>
          <form
            className="form"
            onSubmit={(e) => {
              e.preventDefault();
              drop.mutate();
            }}
          >
            <p className="note">Its secret is wiped; what happened there stays known. A registry of the charter cannot be dropped.</p>
            <label>
              <span>type its name</span>
              <input className="field" value={typed} onChange={(e) => type(e.target.value)} autoComplete="off" />
            </label>
            {drop.isError && <Failed error={drop.error} />}
            <p className="filters">
              <button type="submit" className="btn" disabled={typed !== name || drop.isPending}>
                Drop
              </button>
              <Dialog.Close asChild>
                <button type="button" className="btn">
                  Leave it
                </button>
              </Dialog.Close>
            </p>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
