import { createBrowserRouter, Navigate } from "react-router";
import { Frame } from "./parts/Frame";

/** Each page comes when it is gone to. */
export const router = createBrowserRouter([
  { path: "/sign-in", lazy: async () => ({ Component: (await import("./pages/SignIn")).SignIn }) },
  {
    element: <Frame />,
    children: [
      { path: "/", element: <Navigate to="/lists" replace /> },
      { path: "/lists", lazy: async () => ({ Component: (await import("./pages/Lists")).Lists }) },
      { path: "/bring-in", lazy: async () => ({ Component: (await import("./pages/BringIn")).BringIn }) },
      { path: "/lists/:id", lazy: async () => ({ Component: (await import("./pages/ListPage")).ListPage }) },
      { path: "/lists/:id/rows", lazy: async () => ({ Component: (await import("./pages/ListRows")).ListRows }) },
      { path: "/check", lazy: async () => ({ Component: (await import("./pages/CheckOne")).CheckOne }) },
      { path: "/catalogues", lazy: async () => ({ Component: (await import("./pages/Catalogues")).Catalogues }) },
      { path: "/words", lazy: async () => ({ Component: (await import("./pages/Words")).Words }) },
      { path: "/keys", lazy: async () => ({ Component: (await import("./pages/Keys")).Keys }) },
      { path: "/runs/:id/domains", lazy: async () => ({ Component: (await import("./pages/Domains")).Domains }) },
      { path: "/runs/:id/compare/:other", lazy: async () => ({ Component: (await import("./pages/Compare")).Compare }) },
      { path: "/runs/:id", lazy: async () => ({ Component: (await import("./pages/RunPage")).RunPage }) },
      { path: "/runs/:id/results", lazy: async () => ({ Component: (await import("./pages/Results")).Results }) },
      { path: "/runs/:id/take-out", lazy: async () => ({ Component: (await import("./pages/TakeOut")).TakeOutPage }) },
      { path: "/policies", lazy: async () => ({ Component: (await import("./pages/Policies")).Policies }) },
      { path: "/policies/new", lazy: async () => ({ Component: (await import("./pages/policies/PolicyPage")).PolicyPage }) },
      { path: "/policies/:name", lazy: async () => ({ Component: (await import("./pages/policies/PolicyPage")).PolicyPage }) },
      { path: "/sending", lazy: async () => ({ Component: (await import("./pages/Sending")).Sending }) },
      { path: "/health", lazy: async () => ({ Component: (await import("./pages/Health")).Health }) },
      { path: "*", lazy: async () => ({ Component: (await import("./pages/Nowhere")).Nowhere }) },
    ],
  },
]);
