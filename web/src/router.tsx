import { createBrowserRouter, Navigate } from "react-router";
import { Frame } from "./parts/Frame";

/** Each page comes when it is gone to. */
export const router = createBrowserRouter([
  { path: "/sign-in", lazy: async () => ({ Component: (await import("./features/account/SignIn")).SignIn }) },
  {
    element: <Frame />,
    children: [
      { path: "/", element: <Navigate to="/lists" replace /> },
      { path: "/lists", lazy: async () => ({ Component: (await import("./features/lists/Lists")).Lists }) },
      { path: "/import", lazy: async () => ({ Component: (await import("./features/lists/Import")).Import }) },
      { path: "/lists/:id", lazy: async () => ({ Component: (await import("./features/lists/ListPage")).ListPage }) },
      { path: "/lists/:id/rows", lazy: async () => ({ Component: (await import("./features/lists/ListRows")).ListRows }) },
      { path: "/check", lazy: async () => ({ Component: (await import("./features/check/Check")).Check }) },
      { path: "/catalogues", lazy: async () => ({ Component: (await import("./features/catalogues/Catalogues")).Catalogues }) },
      { path: "/setup", lazy: async () => ({ Component: (await import("./features/setup/Setup")).Setup }) },
      { path: "/glossary", lazy: async () => ({ Component: (await import("./features/glossary/Glossary")).Glossary }) },
      { path: "/keys", lazy: async () => ({ Component: (await import("./features/keys/Keys")).Keys }) },
      { path: "/runs/:id/domains", lazy: async () => ({ Component: (await import("./features/runs/Domains")).Domains }) },
      { path: "/runs/:id/compare/:other", lazy: async () => ({ Component: (await import("./features/runs/Compare")).Compare }) },
      { path: "/runs/:id", lazy: async () => ({ Component: (await import("./features/runs/RunPage")).RunPage }) },
      { path: "/runs/:id/results", lazy: async () => ({ Component: (await import("./features/results/Results")).Results }) },
      { path: "/runs/:id/export", lazy: async () => ({ Component: (await import("./features/export/Export")).Export }) },
      { path: "/policies", lazy: async () => ({ Component: (await import("./features/policies/Policies")).Policies }) },
      { path: "/policies/new", lazy: async () => ({ Component: (await import("./features/policies/PolicyPage")).PolicyPage }) },
      { path: "/policies/:name", lazy: async () => ({ Component: (await import("./features/policies/PolicyPage")).PolicyPage }) },
      { path: "/outbound", lazy: async () => ({ Component: (await import("./features/outbound/Outbound")).Outbound }) },
      { path: "/health", lazy: async () => ({ Component: (await import("./features/health/Health")).Health }) },
      { path: "*", lazy: async () => ({ Component: (await import("./parts/NotFound")).NotFound }) },
    ],
  },
]);
