import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter, Link, NavLink, Route, Routes } from 'react-router';
import './base.css';
import { CataloguePage } from './catalogue/CataloguePage';
import { ChecksPage } from './checks/ChecksPage';
import { EstatePage } from './estate/EstatePage';
import { HomePage } from './home/HomePage';
import { PlanPage } from './plans/PlanPage';
import { PlansPage } from './plans/PlansPage';
import { RunPage } from './run/RunPage';
import { Name } from './shared/Name';
import './tokens.css';

const root = document.getElementById('root');
if (root)
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: 1 } } })}>
        <BrowserRouter>
          <header className="top">
            <strong>
              <Link to="/">Tide Step</Link>
            </strong>
            <nav aria-label="pages">
              <NavLink to="/">Now</NavLink>
              <NavLink to="/estate">Estate</NavLink>
              <NavLink to="/catalogue">Catalogue</NavLink>
              <NavLink to="/plans">Plans</NavLink>
              <NavLink to="/checks">Checks</NavLink>
            </nav>
            <Name />
          </header>
          <main>
            <Routes>
              <Route path="/" element={<HomePage />} />
              <Route path="/estate" element={<EstatePage />} />
              <Route path="/catalogue" element={<CataloguePage />} />
              <Route path="/plans" element={<PlansPage />} />
              <Route path="/plans/:digest" element={<PlanPage />} />
              <Route path="/checks" element={<ChecksPage />} />
              <Route path="/checks/:digest" element={<ChecksPage />} />
              <Route path="/runs/:id" element={<RunPage />} />
            </Routes>
          </main>
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
