import type { ComponentType } from "react";
import type { List, Schema } from "./api/client";
import { ask, read } from "./api/early";
import { draftOf, reuseAtFirst } from "./features/lists/draft";

/** Page is a component that comes when it is gone to. */
export type Page = () => Promise<ComponentType>;

/** underSetup are the pages that Setup lists. */
export const underSetup: Record<string, Page> = {
  "/policies": async () => (await import("./features/policies/Policies")).Policies,
  "/catalogues": async () => (await import("./features/catalogues/Catalogues")).Catalogues,
  "/rules": async () => (await import("./features/outbound/OwnRules")).OwnRules,
  "/odds": async () => (await import("./features/odds/Odds")).Odds,
  "/trial-letters": async () => (await import("./features/trials/TrialLetters")).TrialLetters,
  "/outbound": async () => (await import("./features/outbound/Outbound")).Outbound,
  "/health": async () => (await import("./features/health/Health")).Health,
  "/letters": async () => (await import("./features/letters/Letters")).Letters,
  "/keys": async () => (await import("./features/keys/Keys")).Keys,
  "/webhooks": async () => (await import("./features/webhooks/Webhooks")).Webhooks,
  "/team": async () => (await import("./features/team/Team")).TeamPage,
  "/installation": async () => (await import("./features/installation/Installation")).Installation,
  "/glossary": async () => (await import("./features/glossary/Glossary")).Glossary,
  "/requests": async () => (await import("./features/requests/Requests")).Requests,
  "/audit": async () => (await import("./features/audit/Audit")).Audit,
  "/usage": async () => (await import("./features/allowance/Usage")).Usage,
  "/purchases": async () => (await import("./features/allowance/Purchases")).Purchases,
  "/accounts": async () => (await import("./features/allowance/Accounts")).Accounts,
};

export const pages: Record<string, Page> = {
  "/lists": async () => (await import("./features/lists/Lists")).Lists,
  "/import": async () => (await import("./features/lists/Import")).Import,
  "/lists/:id": async () => (await import("./features/lists/ListPage")).ListPage,
  "/lists/:id/rows": async () => (await import("./features/lists/ListRows")).ListRows,
  "/lists/:id/domains": async () => (await import("./features/workshop/Statistics")).Statistics,
  "/lists/:id/meanings": async () => (await import("./features/lists/Meanings")).Meanings,
  "/lists/:id/opinions": async () => (await import("./features/opinions/Opinions")).Opinions,
  "/workshop": async () => (await import("./features/workshop/Workshop")).Workshop,
  "/check": async () => (await import("./features/check/Check")).Check,
  "/setup": async () => (await import("./features/setup/Setup")).Setup,
  "/runs/:id": async () => (await import("./features/runs/RunPage")).RunPage,
  "/runs/:id/domains": async () => (await import("./features/runs/Domains")).Domains,
  "/runs/:id/compare/:other": async () => (await import("./features/runs/Compare")).Compare,
  "/runs/:id/results": async () => (await import("./features/results/Results")).Results,
  "/runs/:id/export": async () => (await import("./features/export/Export")).Export,
  "/policies/new": async () => (await import("./features/policies/PolicyPage")).PolicyPage,
  "/policies/:name": async () => (await import("./features/policies/PolicyPage")).PolicyPage,
  "/routines": async () => (await import("./features/routines/Routines")).Routines,
  "/routines/new": async () => (await import("./features/routines/RoutinePage")).NewRoutine,
  "/routines/:id": async () => (await import("./features/routines/RoutinePage")).RoutinePage,
  "/routines/:id/edit": async () => (await import("./features/routines/RoutinePage")).EditRoutine,
  "/connections": async () => (await import("./features/connections/Connections")).Connections,
  "/connections/new": async () => (await import("./features/connections/NewConnection")).NewConnection,
  "/connections/signed-in": async () => (await import("./features/connections/SignedIn")).SignedIn,
  "/connections/:id": async () => (await import("./features/connections/ConnectionPage")).ConnectionPage,
  "/runs/:id/write-back": async () => (await import("./features/connections/WriteBack")).WriteBack,
  "/write-backs/:id": async () => (await import("./features/connections/WriteBackPage")).WriteBackPage,
  "/bounces": async () => (await import("./features/bounces/Bounces")).Bounces,
  "/bounces/table": async () => (await import("./features/bounces/OutcomeTable")).OutcomeTable,
  "/bounces/sources": async () => (await import("./features/bounces/Sources")).Sources,
  "/mailings/:id": async () => (await import("./features/bounces/MailingPage")).MailingPage,
  "/runs/:id/settle": async () => (await import("./features/trials/Settle")).Settle,
  "/notices": async () => (await import("./features/notices/Notices")).Notices,
  "/notices/letters": async () => (await import("./features/notices/LetterWishes")).LetterWishes,
  "/webhooks/:id": async () => (await import("./features/webhooks/WebhookPage")).WebhookPage,
  "/person": async () => (await import("./features/account/Person")).Person,
  "/device": async () => (await import("./features/account/Device")).Device,
  "*": async () => (await import("./parts/NotFound")).NotFound,
};

/** doors are the pages before one is signed in. */
export const doors: Record<string, Page> = {
  "/sign-in": async () => (await import("./features/account/SignIn")).SignIn,
  "/sign-up": async () => (await import("./features/account/SignUp")).SignUp,
  "/begin": async () => (await import("./features/account/Begin")).Begin,
  "/invitation": async () => (await import("./features/account/Invitation")).Invitation,
};

/**
 * asked is what pages ask the API for as they begin, so that it comes beside their scripts; ":id" is that of the page's
 * address.
 */
const asked: Record<string, string[]> = {
  "/lists": ["/lists?archived=false&search=&order=newest&limit=50"],
  "/lists/:id": ["/lists/:id", "/runs?list=:id&limit=20"],
  "/lists/:id/rows": ["/lists/:id"],
  "/lists/:id/domains": ["/lists/:id", "/lists/:id/domains"],
  "/lists/:id/meanings": ["/lists/:id", "/lists/:id/meanings"],
  "/lists/:id/opinions": ["/lists/:id"],
  "/runs/:id": ["/runs/:id"],
  "/runs/:id/results": ["/runs/:id", "/runs/:id/results?limit=100", "/runs/:id/matching"],
  "/runs/:id/domains": ["/runs/:id", "/runs/:id/domains?search=&limit=50"],
  "/runs/:id/export": ["/runs/:id"],
  "/runs/:id/settle": ["/runs/:id", "/runs/:id/trial-letters"],
  "/runs/:id/write-back": ["/runs/:id", "/connections"],
  "/write-backs/:id": ["/write-backs/:id", "/write-backs/:id/items?limit=50"],
  "/routines": ["/routines"],
  "/routines/new": ["/step-recipes", "/lists?limit=50", "/policies", "/connections"],
  "/routines/:id": ["/routines/:id", "/routines/:id/times?limit=30"],
  "/connections": ["/connections", "/connection-kinds"],
  "/connections/new": ["/connection-kinds"],
  "/connections/:id": ["/connections/:id", "/connections/:id/collections"],
  "/bounces": ["/outcomes", "/mailings?limit=20", "/bounces?limit=20"],
  "/bounces/sources": ["/bounce-sources"],
  "/mailings/:id": ["/mailings/:id", "/mailings/:id/letters?limit=50"],
  "/notices": ["/notices"],
  "/notices/letters": ["/person/letters", "/event-kinds"],
  "/person": ["/person"],
  "/policies": ["/policies"],
  "/catalogues": ["/catalogue/sources", "/catalogue/shipped?kind=role&search=&limit=100", "/catalogue?limit=500"],
  "/rules": ["/rules"],
  "/odds": ["/odds"],
  "/trial-letters": ["/trial-letters/sender"],
  "/outbound": ["/outbound", "/outbound/operators?search=&limit=20"],
  "/health": ["/health", "/outbound/readiness", "/workers"],
  "/letters": ["/letters"],
  "/keys": ["/keys"],
  "/team": ["/team"],
  "/webhooks": ["/webhooks", "/event-kinds"],
  "/webhooks/:id": ["/webhooks", "/webhooks/:id/deliveries?limit=50"],
  "/installation": ["/installation"],
  "/glossary": ["/glossary"],
  "/requests": ["/requests"],
  "/audit": ["/audit?limit=100", "/team"],
  "/usage": ["/allowance"],
  "/purchases": ["/allowance", "/purchases?limit=100"],
  "/accounts": ["/installation/accounts", "/installation/plans", "/installation/ledger"],
};

/** next is what a page asks for when the first of those is answered, of those who may do what it is for. */
const next: Record<string, { scope: string; ask: (answer: unknown, id: string) => void }> = {
  "/lists/:id": {
    scope: "run",
    ask: (list, id) => ask(`/lists/${id}/draft`, draftOf("mailbox", reuseAtFirst(list as List), false)),
  },
};

const all = { ...pages, ...underSetup, ...doors };
const start = location.pathname === "/" ? "/lists" : location.pathname;
const fits = (path: string) => new RegExp(`^${path.replace(/:\w+/g, "[^/]+")}$`).test(start);

/** here is the path of the page where somebody begins, whose script is fetched at once. */
export const here = Object.keys(all).find((path) => path !== "*" && fits(path));

/**
 * begin returns the page where somebody begins once it is there. It is drawn at once then: what is drawn after
 * something was waited for comes up to 300 ms later, since React holds such changes together.
 */
export async function begin(): Promise<ComponentType | undefined> {
  if (here === undefined) return undefined;
  const session = doors[here] ? undefined : ask("/session");
  const id = start.split("/")[2] ?? "";
  const [first] = (location.search ? [] : (asked[here] ?? [])).map((path) => ask(path.replace(":id", id)));
  const more = next[here];
  if (more && session && first) {
    void Promise.all([read<Schema<"Session">>(session), read(first)]).then(
      ([who, answer]) => who.scopes.includes(more.scope) && more.ask(answer, id),
      () => {}, // the page tells what is wrong
    );
  }
  return all[here]?.();
}
