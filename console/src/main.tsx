import '@fontsource/atkinson-hyperlegible-next/400.css';
import '@fontsource/atkinson-hyperlegible-next/600.css';
import '@fontsource/atkinson-hyperlegible-next/700.css';
import '@fontsource/atkinson-hyperlegible-mono/400.css';
import '@mantine/core/styles.css';
import './console.css';
import './parts/frame.css';
import './parts/parts.css';
import './parts/status.css';
import './parts/run-progress.css';
import './parts/explain.css';
import './parts/condition.css';
import './exposure/exposure.css';
import './plans/board.css';
import './plans/rehearsal.css';
import './plans/times.css';
import './plans/edit.css';
import './readiness/readiness.css';
import './runs/runs.css';
import './fleet/fleet.css';
import './machine/machine.css';
import './overview/staircase.css';
import './session/sign-in.css';
import './access/access.css';
import './narrow.css';
import './print.css';
import { createTheme, MantineProvider } from '@mantine/core';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { createBrowserRouter, RouterProvider } from 'react-router';
import { AccessPage } from './access/AccessPage';
import { AuditPage } from './audit/AuditPage';
import { ExposurePage } from './exposure/ExposurePage';
import { FleetPage } from './fleet/FleetPage';
import { ImportPage } from './fleet/ImportPage';
import { MachinePage } from './machine/MachinePage';
import { MediaPage } from './media/MediaPage';
import { OutcomesPage } from './outcomes/OutcomesPage';
import { OverviewPage } from './overview/OverviewPage';
import { Frame } from './parts/Frame';
import { NothingHere } from './parts/NothingHere';
import { BoardPage } from './plans/BoardPage';
import { EditPage } from './plans/EditPage';
import { PlanPage } from './plans/PlanPage';
import { PlansPage } from './plans/PlansPage';
import { RehearsalPage } from './plans/RehearsalPage';
import { ReadinessPage } from './readiness/ReadinessPage';
import { FollowUpsPage } from './runs/FollowUpsPage';
import { RunPage } from './runs/RunPage';
import { RunsPage } from './runs/RunsPage';
import { MePage } from './session/MePage';
import { SignInPage } from './session/SignInPage';
import { SupportCasePage, SupportCasesPage } from './support-cases/SupportCasesPage';
import { TimesPage } from './times/TimesPage';

const queries = new QueryClient({ defaultOptions: { queries: { retry: 1, staleTime: 2000, refetchOnWindowFocus: true } } });

const router = createBrowserRouter([
  { path: '/sign-in', Component: SignInPage },
  { path: '/times/:secret', Component: TimesPage },
  {
    path: '/',
    Component: Frame,
    children: [
      { index: true, Component: OverviewPage },
      { path: 'fleet', Component: FleetPage },
      { path: 'fleet/import', Component: ImportPage },
      { path: 'machines/:name', Component: MachinePage },
      { path: 'exposure', Component: ExposurePage },
      { path: 'readiness', Component: ReadinessPage },
      { path: 'plans', Component: PlansPage },
      { path: 'plans/new', Component: EditPage },
      { path: 'plans/:name', Component: PlanPage },
      { path: 'plans/:name/edit', Component: EditPage },
      { path: 'plans/:name/board', Component: BoardPage },
      { path: 'plans/:name/rehearsal', Component: RehearsalPage },
      { path: 'runs', Component: RunsPage },
      { path: 'runs/:run', Component: RunPage },
      { path: 'follow-ups', Component: FollowUpsPage },
      { path: 'support-cases', Component: SupportCasesPage },
      { path: 'support-cases/:id', Component: SupportCasePage },
      { path: 'media', Component: MediaPage },
      { path: 'outcomes', Component: OutcomesPage },
      { path: 'access', Component: AccessPage },
      { path: 'access/:part', Component: AccessPage },
      { path: 'audit', Component: AuditPage },
      { path: 'me', Component: MePage },
      { path: '*', Component: NothingHere },
    ],
  },
]);

const theme = createTheme({ fontFamily: 'Atkinson Hyperlegible Next, sans-serif', defaultRadius: 6 });

// The content security policy forbids styles that are written into the page; Mantine's variables come from style sheets instead.
createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <MantineProvider
      theme={theme}
      defaultColorScheme="auto"
      withCssVariables={false}
      withGlobalClasses={false}
      deduplicateInlineStyles={false}
    >
      <QueryClientProvider client={queries}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </MantineProvider>
  </StrictMode>,
);
