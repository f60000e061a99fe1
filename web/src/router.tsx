import { type ComponentType, lazy, Suspense } from "react";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { doors, here, type Page, pages, underSetup } from "./pages";
import { Frame } from "./parts/Frame";
import { UnderSetup } from "./parts/UnderSetup";

/** later is a page that comes when it is gone to. */
const later = (of: Record<string, Page>): [string, ComponentType][] =>
  Object.entries(of).map(([path, load]) => [path, lazy(async () => ({ default: await load() }))]);

const routes = later(pages);
const setupRoutes = later(underSetup);
const doorRoutes = later(doors);

/** Router shows the page of the address; first is the one where somebody begins. */
export function Router({ first }: { first: ComponentType | undefined }) {
  const show = (path: string, Page: ComponentType) => {
    const Shown = (path === here && first) || Page;
    return <Shown key={path} />;
  };
  return (
    <BrowserRouter>
      <Routes>
        {doorRoutes.map(([path, Page]) => (
          <Route key={path} path={path} element={<Suspense fallback={null}>{show(path, Page)}</Suspense>} />
        ))}
        <Route element={<Frame />}>
          <Route index element={<Navigate to="/lists" replace />} />
          {routes.map(([path, Page]) => (
            <Route key={path} path={path} element={show(path, Page)} />
          ))}
          <Route element={<UnderSetup />}>
            {setupRoutes.map(([path, Page]) => (
              <Route key={path} path={path} element={show(path, Page)} />
            ))}
          </Route>
        </Route>
      </Routes>
    </BrowserRouter>
  );
}
