import '@fontsource-variable/source-sans-3/index.css';
import '@fontsource/source-serif-4/600.css';
import '@mantine/core/styles.css';
import '@mantine/notifications/styles.css';
import { MantineProvider } from '@mantine/core';
import { Notifications } from '@mantine/notifications';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter } from 'react-router';
import './tokens.css';
import './base.css';
import './parts/parts.css';
import { App } from './App';
import { theme, variables } from './theme';

const root = document.getElementById('root');
if (root)
  createRoot(root).render(
    <StrictMode>
      <MantineProvider theme={theme} cssVariablesResolver={variables} defaultColorScheme="auto">
        <Notifications position="bottom-right" />
        <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: 1 } } })}>
          {/* What is typed and chosen stands in the address, and has to be there before the next key. */}
          <BrowserRouter useTransitions={false}>
            <App />
          </BrowserRouter>
        </QueryClientProvider>
      </MantineProvider>
    </StrictMode>,
  );
