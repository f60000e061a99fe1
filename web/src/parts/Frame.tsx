import { useQueryClient } from "@tanstack/react-query";
import { Suspense } from "react";
import { Link, Navigate, Outlet, useLocation, useNavigate } from "react-router";
import { useChanges } from "../api/changes";
import { api, Problem } from "../api/client";
import { useSession } from "../api/hooks";
import { Trouble, Wait } from "./Notice";
import { Shortcuts } from "./Shortcuts";

/** Frame is what stands around every page: the name, the way to the lists, who is signed in. */
export function Frame() {
  const session = useSession();
  const here = useLocation();
  useChanges(session.data !== undefined);
  if (session.error instanceof Problem && session.error.status === 401) {
    return <Navigate to={`/sign-in?to=${encodeURIComponent(here.pathname + here.search)}`} replace />;
  }
  return (
    <>
      <a className="skip" href="#page">
        Go to the page
      </a>
      <header className="frame">
        <Link to="/lists" className="brand">
          <img src="/mark.svg" alt="" width={24} height={24} /> Varnet
        </Link>
        <nav aria-label="Main">
          <Link to="/lists">Lists</Link>
          <Link to="/check">Check</Link>
          <Link to="/setup">Setup</Link>
        </nav>
        {session.data && <SignedIn workspace={session.data.workspace} />}
      </header>
      <main id="page">
        {session.error ? (
          <Trouble error={session.error} />
        ) : (
          // What the page shows is fetched beside the session, not after it.
          <Suspense fallback={<Wait for="the page" />}>
            <Outlet />
          </Suspense>
        )}
      </main>
      {session.data && <Shortcuts />}
    </>
  );
}

function SignedIn({ workspace }: { workspace: string }) {
  const client = useQueryClient();
  const go = useNavigate();
  async function signOut() {
    await api.DELETE("/session");
    client.clear();
    await go("/sign-in");
  }
  return (
    <span className="who">
      Workspace <bdi>{workspace}</bdi>
      <button type="button" className="plain" onClick={signOut}>
        Sign out
      </button>
    </span>
  );
}
