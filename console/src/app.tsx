// The frame of every view: mast, foot, keys; and who is signed in.
import { useEffect, useState } from 'react';
import { Link, NavLink, Navigate, Route, Routes, useLocation } from 'react-router';
import { api, queries, take, Problem, type Schema } from './api/client';
import { useLive, type Link as LiveLink } from './api/live';
import { Keys } from './parts/keys';
import { Summit } from './parts/marks';
import { Empty, Failed, Loading } from './parts/states';
import { Age } from './parts/time';
import { useWho } from './parts/who';
import { Finder } from './parts/finder';
import { AcrossView } from './views/across';
import { BuildView } from './views/build';
import { BuildsView } from './views/builds';
import { ComponentView } from './views/component';
import { CompareView } from './views/compare';
import { CopiesView, CopyView } from './views/copies';
import { FindView } from './views/find';
import { HistoryView } from './views/history';
import { ImageView } from './views/image';
import { CharterView } from './views/charter';
import { PeopleView } from './views/people';
import { PromotionView } from './views/promotion';
import { PromotionsView, useMine } from './views/promotions';
import { RegistriesView } from './views/registries';
import { PromoteView, RollBackView } from './views/release';
import { SignIn } from './views/signin';
import { StandingView, useStanding } from './views/standing';
import { TagsView } from './views/tags';

export function App() {
  const who = useWho();
  const at = useLocation();
  const out = who.error instanceof Problem && who.error.told.kind === 'not-signed-in';
  const known = Boolean(who.data) && !out;
  const live = useLive(known);
  if (at.pathname === '/signin') return <SignIn />;
  if (out) return <Navigate to={`/signin?to=${encodeURIComponent(at.pathname + at.search)}`} replace />;
  return (
    <div className="sheet">
      <Mast who={who.data} />
      <main>
        {who.isPending && <Loading what="the ledger" />}
        {who.isError && !who.data && !out && <Failed error={who.error} retry={() => void who.refetch()} />}
        {known && (
          <Routes>
            <Route path="/" element={<StandingView />} />
            <Route path="/history" element={<HistoryView />} />
            <Route path="/history/:component" element={<HistoryView />} />
            <Route path="/registries" element={<RegistriesView />} />
            <Route path="/registries/:name" element={<RegistriesView />} />
            <Route path="/image/*" element={<ImageView />} />
            <Route path="/tags/*" element={<TagsView />} />
            <Route path="/across/:component" element={<AcrossView />} />
            <Route path="/builds" element={<BuildsView />} />
            <Route path="/builds/:component" element={<BuildsView />} />
            <Route path="/builds/:component/:number" element={<BuildView />} />
            <Route path="/copies" element={<CopiesView />} />
            <Route path="/copies/:number" element={<CopyView />} />
            <Route path="/promotions" element={<PromotionsView />} />
            <Route path="/promotions/:number" element={<PromotionView />} />
            <Route path="/promote/:component/:environment" element={<PromoteView />} />
            <Route path="/rollback/:component/:environment" element={<RollBackView />} />
            <Route path="/components/:component" element={<ComponentView />} />
            <Route path="/charter" element={<CharterView />} />
            <Route path="/charter/:version" element={<CharterView />} />
            <Route path="/people" element={<PeopleView />} />
            <Route path="/compare" element={<CompareView />} />
            <Route path="/find" element={<FindView />} />
            <Route
              path="*"
              element={
                <Empty title="There is nothing at this address">
                  Go to <Link to="/">Standing</Link>.
                </Empty>
              }
            />
          </Routes>
        )}
      </main>
      <Foot live={live} known={known} />
      <Keys />
    </div>
  );
}

function Mast({ who }: { who: Schema['Actor'] | undefined }) {
  const mine = useMine(who !== undefined && who.approvesIn.length > 0).data?.items.length ?? 0;
  const leave = async () => {
    await take(api.DELETE('/api/v1/session'));
    queries.clear();
    window.location.assign('/signin');
  };
  return (
    <header className="mast">
      <Link className="wordmark" to="/">
        <Summit />
        Dovrak
      </Link>
      <nav className="views" aria-label="Views">
        <NavLink to="/" end>
          Standing
        </NavLink>
        <NavLink to="/history">History</NavLink>
        <NavLink to="/builds">Builds</NavLink>
        <NavLink to="/promotions">
          Promotions
          {mine > 0 && (
            <b className="waits" title={`${mine} wait for you`}>
              {' '}
              {mine}
              <span className="sr"> wait for you</span>
            </b>
          )}
        </NavLink>
        <NavLink to="/copies">Copies</NavLink>
        <NavLink to="/compare">Compare</NavLink>
        <NavLink to="/charter">Charter</NavLink>
        <NavLink to="/people">People</NavLink>
        <NavLink to="/registries">Registries</NavLink>
      </nav>
      {who && <Finder />}
      {who && (
        <span className="who">
          <span title={who.groups.length > 0 ? `in ${who.groups.join(', ')}` : `a token, until ${who.expires}`}>{who.name}</span>{' '}
          <button type="button" className="text-btn" onClick={() => void leave()}>
            sign out
          </button>
        </span>
      )}
    </header>
  );
}

function Foot({ live, known }: { live: LiveLink; known: boolean }) {
  const standing = useStanding(known);
  return (
    <footer className="foot">
      <span>
        {standing.data && (
          <>
            Trail: <b>{standing.data.trailSize.toLocaleString('en-GB').replaceAll(',', ' ')}</b> entries.{' '}
          </>
        )}
        <LiveState live={live} />
      </span>
      <span className="keys">
        <Theme />
        <span className="wide">
          <kbd>/</kbd> find
        </span>
        <span className="wide">
          <kbd>g</kbd> then <kbd>s</kbd> <kbd>h</kbd> <kbd>p</kbd> <kbd>a</kbd> … a view
        </span>
        <span className="wide">
          <kbd>?</kbd> all keys
        </span>
      </span>
    </footer>
  );
}

function LiveState({ live }: { live: LiveLink }) {
  if (live.state === 'live') return <span role="status">Live: this page changes as things do.</span>;
  if (live.state === 'joining') return <span role="status">Joining the stream of events …</span>;
  return (
    <span role="status" className="waits">
      <b>Connection lost</b> <Age of={live.since.toISOString()} /> ago; what is shown is from before. Trying again by itself.
    </span>
  );
}

function Theme() {
  const [theme, set] = useState(() => localStorage.getItem('dovrak-theme') ?? '');
  useEffect(() => {
    if (theme) {
      document.documentElement.dataset.theme = theme;
      localStorage.setItem('dovrak-theme', theme);
    }
  }, [theme]);
  const dark = theme ? theme === 'night' : matchMedia('(prefers-color-scheme: dark)').matches;
  return (
    <button type="button" className="text-btn" onClick={() => set(dark ? 'paper' : 'night')}>
      {dark ? 'by day' : 'by night'}
    </button>
  );
}
