// The stream of events: what changed is asked for anew. The browser takes a broken stream up again by itself, with the
// id of the last event; this tells whether it stands.
import { useEffect, useState } from 'react';
import { queries } from './client';

export type Link = { state: 'joining' | 'live' | 'lost'; since: Date };

/** touched says which questions an event's topic makes stale. */
const touched: Record<string, string[]> = {
  tag: ['standing', 'component', 'plan', 'history', 'trail', 'where', 'image', 'tags'],
  promotion: ['standing', 'component', 'trail', 'promotions', 'promotion', 'prospect', 'mine'],
  copy: ['copies', 'copy', 'trail', 'where'],
  'take-in': ['where', 'tags'],
  build: ['builds', 'build', 'rules', 'component'],
  join: ['trail', 'where'],
  evidence: ['image', 'trail', 'plan'],
  charter: ['standing', 'component', 'plan', 'history', 'trail', 'destinations', 'across', 'rules', 'charter', 'people', 'whoami', 'mine'],
  people: ['people', 'whoami', 'mine', 'prospect', 'trail'],
  registry: ['standing', 'trail', 'registries', 'destinations'],
};

const everything = [...new Set(Object.values(touched).flat())];

/** How often a question is asked anew at the most, in ms, however many events come. */
const EVERY = 250;

/**
 * asker asks stale questions anew, each when the one before it was answered: in a storm of events no answer would ever
 * come if each began it again.
 */
function asker() {
  const stale = new Set<string>();
  let timer: number | undefined;
  const ask = () => {
    for (const key of stale) {
      if (queries.isFetching({ queryKey: [key] }) > 0) continue;
      stale.delete(key);
      void queries.invalidateQueries({ queryKey: [key] });
    }
    if (stale.size === 0) stop();
  };
  const stop = () => {
    clearInterval(timer);
    timer = undefined;
  };
  return {
    stop,
    add(keys: string[]) {
      keys.forEach((k) => stale.add(k));
      timer ??= window.setInterval(ask, EVERY);
    },
  };
}

export function useLive(on: boolean): Link {
  const [link, setLink] = useState<Link>({ state: 'joining', since: new Date() });
  useEffect(() => {
    if (!on) return undefined;
    const asks = asker();
    let stream: EventSource | undefined;
    let missed = false;
    const join = () => {
      stream = new EventSource('/api/v1/events');
      stream.onopen = () => {
        setLink({ state: 'live', since: new Date() });
        if (missed) void queries.invalidateQueries(); // nobody knows what happened meanwhile
        else asks.add(everything); // nor between a page's first answers and the stream's beginning
        missed = false;
      };
      stream.onerror = () => {
        missed = true;
        void queries.invalidateQueries({ queryKey: ['whoami'] }); // the session may have ended
        setLink((was) => (was.state === 'lost' ? was : { state: 'lost', since: new Date() }));
      };
      stream.onmessage = (e: MessageEvent<string>) => {
        const { topic } = JSON.parse(e.data) as { topic: string };
        asks.add(touched[topic] ?? []);
      };
    };
    const leave = () => {
      stream?.close();
      stream = undefined;
      missed = true;
    };
    // A browser gives one host six connections. A page that nobody sees, in another tab or left behind, must not hold one.
    const turn = () => {
      if (document.hidden) leave();
      else if (!stream) join();
    };
    join();
    document.addEventListener('visibilitychange', turn);
    return () => {
      document.removeEventListener('visibilitychange', turn);
      leave();
      asks.stop();
    };
  }, [on]);
  return link;
}
