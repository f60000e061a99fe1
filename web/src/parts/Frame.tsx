import { useMutation, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState } from "react";
import { Link, Navigate, Outlet, useLocation, useNavigate } from "react-router";
import { useChanges } from "../api/changes";
import { api, Problem, type Schema, told } from "../api/client";
import { useSession } from "../api/hooks";
import { moment } from "../words";
import { For } from "./For";
import { Trouble, Wait } from "./Notice";
import { Shortcuts } from "./Shortcuts";

const Line = lazy(async () => ({ default: (await import("../features/allowance/Line")).Line }));
const Tray = lazy(async () => ({ default: (await import("../features/notices/Tray")).Tray }));

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
          <For scope="check">
            <Link to="/check">Check</Link>
          </For>
          <Link to="/routines">Routines</Link>
          <Link to="/connections">Connections</Link>
          <Link to="/bounces">Bounces</Link>
          <Link to="/setup">Setup</Link>
        </nav>
        {session.data?.person && <SignedIn of={session.data} person={session.data.person} />}
      </header>
      <main id="page">
        {session.data?.deleteAt && <Ending at={session.data.deleteAt} />}
        {session.error ? (
          <Trouble error={session.error} />
        ) : session.data?.demanded && here.pathname !== "/person" ? (
          <Demanded workspace={session.data.workspace} />
        ) : session.data?.workspace === "" && !["/person", "/device", "/installation"].includes(here.pathname) ? (
          <NoWorkspace />
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

/** SignedIn says who is signed in and in which workspace, and lets them go to another or out. */
function SignedIn({ of: session, person }: { of: Schema<"Session">; person: Schema<"Who"> }) {
  const client = useQueryClient();
  const go = useNavigate();
  async function signOut() {
    await api.DELETE("/session");
    client.clear();
    await go("/sign-in");
  }
  return (
    <span className="who">
      <Suspense fallback={null}>
        <Tray />
        <Line />
      </Suspense>
      <WorkspaceChoice of={session} />
      <Link to="/person">
        <bdi>{person.name}</bdi>
      </Link>
      <button type="button" className="plain" onClick={signOut}>
        Sign out
      </button>
    </span>
  );
}

/** useEnter has this session work in another workspace, in all its windows. */
function useEnter() {
  return async (enter: () => Promise<unknown>) => {
    await enter();
    const others = new BroadcastChannel("workspace");
    others.postMessage("changed");
    others.close();
    location.assign("/lists"); // nothing of the other workspace stays
  };
}

function WorkspaceChoice({ of: session }: { of: Schema<"Session"> }) {
  const enter = useEnter();
  useEffect(() => {
    const others = new BroadcastChannel("workspace");
    others.onmessage = () => location.assign("/lists");
    return () => others.close();
  }, []);
  if (session.workspaces.length < 2)
    return session.workspace ? (
      <span>
        <span className="unseen">Workspace </span>
        <bdi>{session.workspace}</bdi>
      </span>
    ) : null;
  return (
    <select
      className="plain"
      aria-label="Workspace"
      value={session.workspaceId ?? 0}
      onChange={(e) =>
        void enter(() => api.PUT("/session/workspace", { body: { workspaceId: Number(e.target.value) } }))
      }
    >
      {!session.workspaceId && <option value={0}>none</option>}
      {session.workspaces.map((w) => (
        <option key={w.id} value={w.id}>
          {w.name}
        </option>
      ))}
    </select>
  );
}

/** Ending says on every page that the workspace is about to be deleted. */
function Ending({ at }: { at: string }) {
  return (
    <p className="ending" role="status">
      This workspace will be deleted on {moment(at)}. An owner can stop that on the page of the{" "}
      <Link to="/team">team</Link>.
    </p>
  );
}

/** Demanded says why nothing of a workspace shows. */
function Demanded({ workspace }: { workspace: string }) {
  return (
    <p className="sentence">
      “<bdi>{workspace}</bdi>” requires a second factor. <Link to="/person">Set one up</Link>, and go on.
    </p>
  );
}

/** NoWorkspace lets somebody make a workspace who is in none. */
function NoWorkspace() {
  const enter = useEnter();
  const session = useSession();
  const [name, setName] = useState(session.data?.person?.name ?? "");
  const make = useMutation({
    mutationFn: () => enter(async () => told(await api.POST("/workspaces", { body: { name } }))),
  });
  return (
    <>
      <h1>You are in no workspace</h1>
      <p>
        Lists are kept in workspaces.{" "}
        {session.data && session.data.workspaces.length > 0
          ? "Choose one of yours at the top, or make another."
          : "Make one, or ask a colleague to invite you to theirs."}
      </p>
      <form
        className="add"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <input
          className="field"
          aria-label="Name of the workspace"
          value={name}
          maxLength={100}
          onChange={(e) => setName(e.target.value)}
        />
        <button type="submit" className="field" disabled={name.trim() === ""}>
          Make a workspace
        </button>
      </form>
      {make.error && <Trouble error={make.error} />}
    </>
  );
}
