import '@fontsource-variable/inter';
import '@mantine/core/styles.css';
import '@mantine/spotlight/styles.css';
import './look.css';
import { MantineProvider } from '@mantine/core';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { createBrowserRouter, RouterProvider } from 'react-router';
import { DutyPage } from './pages/duty/DutyPage';
import { theme, variables } from './theme';
import { Frame } from './ui/Frame';

const router = createBrowserRouter([
  {
    element: <Frame />,
    children: [
      { path: '/', element: <DutyPage /> },
      { path: '/jobs', lazy: () => import('./pages/jobs/JobsPage').then((m) => ({ Component: m.JobsPage })) },
      { path: '/jobs/:name', lazy: () => import('./pages/jobs/JobPage').then((m) => ({ Component: m.JobPage })) },
      {
        path: '/jobs/:name/prune',
        lazy: () => import('./pages/copies/PrunePage').then((m) => ({ Component: m.PrunePage })),
      },
      { path: '/runs/:id', lazy: () => import('./pages/runs/RunPage').then((m) => ({ Component: m.RunPage })) },
      {
        path: '/timetable',
        lazy: () => import('./pages/timetable/TimetablePage').then((m) => ({ Component: m.TimetablePage })),
      },
      {
        path: '/timetable/forecast',
        lazy: () => import('./pages/timetable/ForecastPage').then((m) => ({ Component: m.ForecastPage })),
      },
      { path: '/media', lazy: () => import('./pages/media/MediaPage').then((m) => ({ Component: m.MediaPage })) },
      {
        path: '/media/schemes',
        lazy: () => import('./pages/media/SchemesPage').then((m) => ({ Component: m.SchemesPage })),
      },
      {
        path: '/jobs/:name/compare',
        lazy: () => import('./pages/copies/ComparePage').then((m) => ({ Component: m.ComparePage })),
      },
      {
        path: '/machines',
        lazy: () => import('./pages/machines/MachinesPage').then((m) => ({ Component: m.MachinesPage })),
      },
      {
        path: '/machines/:name',
        lazy: () => import('./pages/machines/MachinePage').then((m) => ({ Component: m.MachinePage })),
      },
      {
        path: '/runs/waiting',
        lazy: () => import('./pages/runs/WaitingPage').then((m) => ({ Component: m.WaitingPage })),
      },
      { path: '/copies', lazy: () => import('./pages/copies/CopiesPage').then((m) => ({ Component: m.CopiesPage })) },
      { path: '/copies/:id', lazy: () => import('./pages/copies/CopyPage').then((m) => ({ Component: m.CopyPage })) },
      { path: '/stores', lazy: () => import('./pages/stores/StoresPage').then((m) => ({ Component: m.StoresPage })) },
      { path: '/alerts', lazy: () => import('./pages/alerts/AlertsPage').then((m) => ({ Component: m.AlertsPage })) },
      { path: '/alerts/who', lazy: () => import('./pages/alerts/WhoPage').then((m) => ({ Component: m.WhoPage })) },
      {
        path: '/reports',
        lazy: () => import('./pages/reports/ReportsPage').then((m) => ({ Component: m.ReportsPage })),
      },
      { path: '/alerts/:id', lazy: () => import('./pages/alerts/AlertPage').then((m) => ({ Component: m.AlertPage })) },
      {
        path: '/settings',
        lazy: () => import('./pages/settings/SettingsPage').then((m) => ({ Component: m.SettingsPage })),
      },
      {
        path: '/settings/charter',
        lazy: () => import('./pages/settings/CharterPage').then((m) => ({ Component: m.CharterPage })),
      },
      {
        path: '/settings/:kind/:name',
        lazy: () => import('./pages/settings/DefinitionPage').then((m) => ({ Component: m.DefinitionPage })),
      },
      { path: '*', lazy: () => import('./pages/NowherePage').then((m) => ({ Component: m.NowherePage })) },
    ],
  },
]);

const queries = new QueryClient({ defaultOptions: { queries: { retry: 1, staleTime: 2_000 } } });

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <MantineProvider theme={theme} cssVariablesResolver={variables} defaultColorScheme="auto">
      <QueryClientProvider client={queries}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </MantineProvider>
  </StrictMode>,
);
