import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter, Link, Route, Routes } from 'react-router';
import './base.css';
import { HomePage } from './home/HomePage';
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
            <Name />
          </header>
          <main>
            <Routes>
              <Route path="/" element={<HomePage />} />
              <Route path="/runs/:id" element={<RunPage />} />
            </Routes>
          </main>
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
