/** The console: its addresses, and who may see them. */
import { QueryClient, QueryClientProvider, useQuery } from '@tanstack/react-query';
import {
  createRootRoute,
  createRoute,
  createRouter,
  Navigate,
  RouterProvider,
  useRouterState,
} from '@tanstack/react-router';
import { Tooltip } from 'radix-ui';
import { StrictMode, useEffect } from 'react';
import { createRoot } from 'react-dom/client';
import type { Me } from '../../src/wire/people';
import { get, Refusal } from './data/api';
import { followFeed } from './data/live';
import { readSearch, type Search } from './data/search';
import { ActivityPage } from './pages/activity/Activity';
import { AlertsPage } from './pages/alerts/Alerts';
import { BoardPage } from './pages/board/Board';
import { DeliveryPage } from './pages/delivery/Delivery';
import { EnvironmentPage } from './pages/environments/Environment';
import { GatePage } from './pages/people/Gate';
import { GuidePage } from './pages/projects/Guide';
import { ProjectPage } from './pages/projects/Project';
import { ComparePage } from './pages/compare/Compare';
import { RolloutPage } from './pages/promotion/Rollout';
import { ReleasePage } from './pages/releases/Release';
import { PromotionPage } from './pages/promotion/Promotion';
import { ReviewsPage } from './pages/reviews/Reviews';
import { DeploymentPage } from './pages/environments/Deployment';
import { RunPage } from './pages/runs/Run';
import { RunsPage } from './pages/runs/Runs';
import { SignInPage } from './pages/people/SignIn';
import { YouPage } from './pages/people/You';
import { Empty, Loading, Trouble } from './parts/basics';
import { Frame } from './parts/Frame';
import './theme.css';

const client = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (count, error) => count < 3 && !(error instanceof Refusal && !error.problem.retry),
      staleTime: 1_000,
      refetchOnWindowFocus: true,
    },
  },
});

function Root(): React.ReactNode {
  const path = useRouterState({ select: (state) => state.location.pathname });
  const signingIn = path === '/sign-in';
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me'), enabled: !signingIn });
  const known = me.data !== undefined && !signingIn;
  useEffect(() => (known ? followFeed(client) : undefined), [known]);
  if (signingIn) return <SignInPage />;
  // Also for a page that stood open while its session ended.
  if (me.error instanceof Refusal && me.error.problem.status === 401)
    return <Navigate to="/sign-in" search={{ then: path === '/gate' ? path + location.search : path }} />;
  if (me.data) return <Frame me={me.data} />;
  return me.error ? <Trouble error={me.error} /> : <Loading />;
}

const root = createRootRoute({
  component: Root,
  notFoundComponent: () => <Empty title="There is no such page.">Press g b for the board.</Empty>,
});
const page = <P extends string>(path: P, component: () => React.ReactNode, names: readonly (keyof Search)[] = []) =>
  createRoute({
    getParentRoute: () => root,
    path,
    component,
    // Whatever stands in an address: of it no more is known than its schema says.
    validateSearch: (search: Record<string, unknown>): Search => readSearch(search, names),
  });
const router = createRouter({
  routeTree: root.addChildren([
    page('/', BoardPage),
    page('/sign-in', SignInPage, ['then']),
    page('/gate', GatePage, ['host', 'door', 'to']),
    page('/runs', RunsPage, ['project', 'state', 'branch']),
    page('/reviews', ReviewsPage, ['project']),
    page('/add', GuidePage),
    page('/alerts', AlertsPage),
    page('/delivery', DeliveryPage, ['project', 'weeks']),
    page('/activity', ActivityPage, ['project', 'who', 'about', 'all']),
    page('/you', YouPage),
    page('/$project', ProjectPage, ['ref']),
    page('/$project/runs/$number', RunPage, ['task', 'attempt', 'line']),
    page('/$project/releases/$number', ReleasePage),
    page('/$project/deployments/$number', DeploymentPage, ['attempt']),
    page('/$project/compare', ComparePage, ['from', 'to']),
    page('/$project/$environment', EnvironmentPage),
    page('/$project/$environment/promote', PromotionPage, ['release']),
    page('/$project/$environment/cutover', RolloutPage),
    page('/$project/$environment/$section', EnvironmentPage),
  ]),
  defaultPreload: false,
});
declare module '@tanstack/react-router' {
  interface Register {
    router: typeof router;
  }
}

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <Tooltip.Provider delayDuration={300}>
        <RouterProvider router={router} />
      </Tooltip.Provider>
    </QueryClientProvider>
  </StrictMode>,
);
