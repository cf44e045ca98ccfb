// The keyboard: g then a letter goes to a view, / finds, ? lists the keys. A key typed into a field is text.
import { useEffect, useRef, useState } from 'react';
import { Dialog } from 'radix-ui';
import { useNavigate } from 'react-router';

const places: Record<string, [string, string]> = {
  s: ['/', 'Standing'],
  h: ['/history', 'History'],
  b: ['/builds', 'Builds'],
  p: ['/promotions', 'Promotions'],
  m: ['/copies', 'Copies: what moves'],
  c: ['/compare', 'Compare'],
  a: ['/charter', 'Charter: what is allowed'],
  w: ['/people', 'People: who may what'],
  r: ['/registries', 'Registries'],
};

const typing = (e: KeyboardEvent) =>
  e.target instanceof HTMLElement && (e.target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName));

export function Keys() {
  const [shown, show] = useState(false);
  const go = useNavigate();
  const leader = useRef(0); // when g was pressed
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      if (typing(e) || e.ctrlKey || e.metaKey || e.altKey) return;
      const place = places[e.key];
      if (place && e.timeStamp - leader.current < 1500) void go(place[0]);
      leader.current = e.key === 'g' ? e.timeStamp : 0;
      if (e.key === '?') show(true);
      if (e.key === '/') {
        e.preventDefault();
        document.querySelector<HTMLInputElement>('[data-find]')?.focus();
      }
    };
    document.addEventListener('keydown', onKey);
    return () => document.removeEventListener('keydown', onKey);
  }, [go]);
  return (
    <Dialog.Root open={shown} onOpenChange={show}>
      <Dialog.Portal>
        <Dialog.Overlay className="veil" />
        <Dialog.Content className="sheet-over" aria-describedby={undefined}>
          <Dialog.Title asChild>
            <h2>Keys</h2>
          </Dialog.Title>
          <table className="keys-list">
            <tbody>
              {Object.entries(places).map(([k, [, name]]) => (
                <tr key={k}>
                  <th scope="row">
                    <kbd>g</kbd> <kbd>{k}</kbd>
                  </th>
                  <td>{name}</td>
                </tr>
              ))}
              <tr>
                <th scope="row">
                  <kbd>/</kbd>
                </th>
                <td>find a digest, tag, commit, build, component or image</td>
              </tr>
              <tr>
                <th scope="row">
                  <kbd>←</kbd> <kbd>→</kbd>
                </th>
                <td>in History: read an earlier or a later instant</td>
              </tr>
              <tr>
                <th scope="row">
                  <kbd>?</kbd>
                </th>
                <td>this list</td>
              </tr>
            </tbody>
          </table>
          <Dialog.Close asChild>
            <button type="button" className="btn">
              Close
            </button>
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
