import { lazy, Suspense } from 'react';
import { Link, Route, Routes, useLocation } from 'react-router';
import { useMe } from './shared/queries';
import { Entry, JoinPage } from './shell/Entry';
import { LetInPage } from './shell/LetInPage';
import { Shell } from './shell/Shell';

// Each page is loaded as it is opened.
const NowPage = lazy(() => import('./work/NowPage').then((m) => ({ default: m.NowPage })));
const EstatePage = lazy(() => import('./estate/EstatePage').then((m) => ({ default: m.EstatePage })));
const MapPage = lazy(() => import('./estate/MapPage').then((m) => ({ default: m.MapPage })));
const DocumentsPage = lazy(() => import('./documents/DocumentsPage').then((m) => ({ default: m.DocumentsPage })));
const DocumentPage = lazy(() => import('./documents/DocumentPage').then((m) => ({ default: m.DocumentPage })));
const CataloguePage = lazy(() => import('./catalogue/CataloguePage').then((m) => ({ default: m.CataloguePage })));
const PlansPage = lazy(() => import('./plans/PlansPage').then((m) => ({ default: m.PlansPage })));
const GoalPage = lazy(() => import('./plans/GoalPage').then((m) => ({ default: m.GoalPage })));
const PlanPage = lazy(() => import('./plans/PlanPage').then((m) => ({ default: m.PlanPage })));
const RunsPage = lazy(() => import('./runs/RunsPage').then((m) => ({ default: m.RunsPage })));
const RunPage = lazy(() => import('./runs/RunPage').then((m) => ({ default: m.RunPage })));
const PointsPage = lazy(() => import('./work/PointsPage').then((m) => ({ default: m.PointsPage })));
const FollowUpsPage = lazy(() => import('./work/FollowUpsPage').then((m) => ({ default: m.FollowUpsPage })));
const ArtefactsPage = lazy(() => import('./estate/ArtefactsPage').then((m) => ({ default: m.ArtefactsPage })));
const NoticesPage = lazy(() => import('./work/NoticesPage').then((m) => ({ default: m.NoticesPage })));
const ServicePage = lazy(() => import('./work/ServicePage').then((m) => ({ default: m.ServicePage })));
const PeoplePage = lazy(() => import('./people/PeoplePage').then((m) => ({ default: m.PeoplePage })));
const RecordPage = lazy(() => import('./people/RecordPage').then((m) => ({ default: m.RecordPage })));
const TryPage = lazy(() => import('./work/TryPage').then((m) => ({ default: m.TryPage })));
const KeysPage = lazy(() => import('./shell/KeysPage').then((m) => ({ default: m.KeysPage })));
// Only in development: it is no page of the product, and not in what is built.
const GalleryPage = import.meta.env.DEV ? lazy(() => import('./gallery/GalleryPage').then((m) => ({ default: m.GalleryPage }))) : undefined;

/** The addresses of the console, the vocabulary's words as on the command line. */
export function App() {
  const me = useMe();
  const { pathname } = useLocation();
  if (pathname === '/join') return <JoinPage />;
  if (me.error) return <Entry why={me.error} />;
  if (!me.data) return null;
  if (pathname === '/let-in') return <LetInPage />;
  return (
    <Shell>
      <Suspense fallback={<p className="soft">Loading the page …</p>}>
        <Routes>
          <Route path="/" element={<NowPage />} />
          <Route path="/estate" element={<EstatePage />} />
          <Route path="/estate/map" element={<MapPage />} />
          <Route path="/documents" element={<DocumentsPage />} />
          <Route path="/documents/:kind/:id" element={<DocumentPage />} />
          <Route path="/catalogue" element={<CataloguePage />} />
          <Route path="/catalogue/:product" element={<CataloguePage />} />
          <Route path="/plans" element={<PlansPage />} />
          <Route path="/plans/new" element={<GoalPage />} />
          <Route path="/plans/:digest" element={<PlanPage />} />
          <Route path="/plans/:digest/:part" element={<PlanPage />} />
          <Route path="/runs" element={<RunsPage />} />
          <Route path="/runs/:id" element={<RunPage />} />
          <Route path="/runs/:id/:part" element={<RunPage />} />
          <Route path="/points" element={<PointsPage />} />
          <Route path="/follow-ups" element={<FollowUpsPage />} />
          <Route path="/artefacts" element={<ArtefactsPage />} />
          <Route path="/notices" element={<NoticesPage />} />
          <Route path="/service" element={<ServicePage />} />
          <Route path="/people" element={<PeoplePage />} />
          <Route path="/record" element={<RecordPage />} />
          <Route path="/try" element={<TryPage />} />
          <Route path="/keys" element={<KeysPage />} />
          {GalleryPage && <Route path="/gallery" element={<GalleryPage />} />}
          <Route path="*" element={<NoPage />} />
        </Routes>
      </Suspense>
    </Shell>
  );
}

function NoPage() {
  return (
    <>
      <h1>There is no such page</h1>
      <p>
        The address may be of something that was taken away. <Link to="/">See what is going on now</Link>, or search with <kbd>/</kbd>.
      </p>
    </>
  );
}
