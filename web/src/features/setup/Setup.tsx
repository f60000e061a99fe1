import type { ReactNode } from "react";
import { Link } from "react-router";
import { usePolicies, useSession, useWords } from "../../api/hooks";
import { plural } from "../../words";
import { useAllowance } from "../allowance/queries";
import { useFollowed, useOwnEntries } from "../catalogues/queries";
import { useHealth } from "../health/queries";
import { useInstallation } from "../installation/queries";
import { useKeys } from "../keys/queries";
import { useLetters } from "../letters/queries";
import { useOdds } from "../odds/queries";
import { useOwnRules, useReadiness } from "../outbound/queries";
import { useTeam } from "../team/queries";
import { useTrialSender } from "../trials/queries";
import { useWebhooks } from "../webhooks/queries";
import { useRecipes, useTermLists } from "../workshop/queries";

/** Setup lists all that is set up once, in groups, each with its state in a sentence. */
export function Setup() {
  const session = useSession();
  return (
    <>
      <h1>Setup</h1>
      <div className="setup">
        <Group name="What is kept">
          <Policies />
          <Catalogues />
          <Rules />
          <Recipes />
          <TrialLetters />
          <Odds />
        </Group>
        {session.data?.keeper && (
          <Group name="How mail hosts are asked, and letters sent">
            <Outbound />
            <Workers />
            <Letters />
          </Group>
        )}
        <Costs />
        <Group name="Who may come in, and what they did">
          <Team />
          <Keys />
          {session.data?.scopes.includes("manage") && <Webhooks />}
          {session.data?.scopes.includes("manage") && (
            <Place to="/requests" name="Requests" says="What is held about an address, for its person; erasing it." />
          )}
          {(session.data?.keeper || session.data?.scopes.includes("manage")) && (
            <Place to="/audit" name="Audit trail" says="Who did what, on what, when and from where." />
          )}
          {session.data?.keeper && <Installation />}
        </Group>
        <Group name="What the words mean">
          <Glossary />
        </Group>
      </div>
    </>
  );
}

function Group({ name, children }: { name: string; children: ReactNode }) {
  return (
    <section>
      <h2>{name}</h2>
      <dl>{children}</dl>
    </section>
  );
}

function Place({ to, name, says }: { to: string; name: string; says: string | undefined }) {
  return (
    <div>
      <dt>
        <Link to={to}>{name}</Link>
      </dt>
      <dd>{says ?? "\u00a0"}</dd>
    </div>
  );
}

/** Costs shows what is kept of allowances, where one is or somebody looks after the installation. */
function Costs() {
  const session = useSession();
  const allowance = useAllowance();
  const a = allowance.data;
  const keeper = session.data?.keeper;
  if (!a?.kept && !keeper) return null;
  return (
    <Group name="How much may be checked">
      {a?.kept && <Place to="/usage" name="Usage" says={a.says} />}
      {a?.kept && session.data?.scopes.includes("manage") && (
        <Place
          to="/purchases"
          name="Plans and purchases"
          says={`The plan is “${a.plan?.name}”. ${
            a.refill
              ? `Under ${plural(a.refill.under, "check")} more are bought automatically.`
              : "Nothing is bought automatically."
          }`}
        />
      )}
      {keeper && (
        <Place to="/accounts" name="Accounts" says="Which workspaces have an allowance, plans, prices and payment." />
      )}
    </Group>
  );
}

function Policies() {
  const policies = usePolicies();
  const own = policies.data?.filter((p) => !p.ready).length;
  const ready = policies.data?.filter((p) => p.ready).length;
  return (
    <Place
      to="/policies"
      name="Policies"
      says={own === undefined ? undefined : `${ready} ready-made, ${own === 0 ? "none" : own} of your own.`}
    />
  );
}

function Catalogues() {
  const own = useOwnEntries();
  const followed = useFollowed();
  if (!own.data || !followed.data) return <Place to="/catalogues" name="Catalogues" says={undefined} />;
  const entries = own.data.length === 500 ? "500 entries or more" : plural(own.data.length, "entry", "entries");
  const lists = followed.data.length === 0 ? "none" : plural(followed.data.length, "list");
  return <Place to="/catalogues" name="Catalogues" says={`${entries} of your own, ${lists} followed.`} />;
}

function Rules() {
  const rules = useOwnRules();
  return (
    <Place
      to="/rules"
      name="Rules of the workspace"
      says={
        rules.data &&
        (rules.data.length === 0
          ? "None: everybody is asked alike."
          : `${plural(rules.data.length, "rule")} about whom to ask, and how far.`)
      }
    />
  );
}

function Recipes() {
  const recipes = useRecipes();
  const terms = useTermLists();
  return (
    <Place
      to="/workshop"
      name="Recipes of steps, and terms"
      says={
        recipes.data &&
        terms.data &&
        `${plural(recipes.data.length, "recipe")} for making lists from lists, ${plural(terms.data.length, "list")} of saved terms.`
      }
    />
  );
}

function Odds() {
  const odds = useOdds();
  return <Place to="/odds" name="Odds" says={odds.data?.says} />;
}

function TrialLetters() {
  const sender = useTrialSender();
  return <Place to="/trial-letters" name="Trial letters" says={sender.data?.says} />;
}

function Outbound() {
  const readiness = useReadiness();
  return (
    <Place
      to="/outbound"
      name="Outbound"
      says={readiness.data && `Outbound is ${readiness.data.state}. ${readiness.data.says}`}
    />
  );
}

function Workers() {
  const health = useHealth();
  return <Place to="/health" name="Workers and health" says={health.data?.sentence} />;
}

function Letters() {
  const letters = useLetters();
  return <Place to="/letters" name="Letters" says={letters.data?.says} />;
}

function Keys() {
  const keys = useKeys();
  return (
    <Place
      to="/keys"
      name="Keys"
      says={keys.data && `${plural(keys.data.length, "key opens", "keys open")} this workspace.`}
    />
  );
}

function Webhooks() {
  const webhooks = useWebhooks();
  const on = webhooks.data?.filter((w) => w.on).length;
  return (
    <Place
      to="/webhooks"
      name="Webhooks"
      says={
        webhooks.data &&
        (webhooks.data.length === 0
          ? "None: no program is notified of what happens."
          : `${plural(webhooks.data.length, "address is", "addresses are")} told of events, ${on === webhooks.data.length ? "all" : on} of them on.`)
      }
    />
  );
}

function Team() {
  const team = useTeam();
  const t = team.data;
  return (
    <Place
      to="/team"
      name="Team"
      says={
        t &&
        `${plural(t.members.length, "person", "people")}, ${t.invitations.length === 0 ? "nobody" : t.invitations.length} invited. A second factor is ${t.secondFactor ? "demanded" : "up to each"}.`
      }
    />
  );
}

const signUp = { open: "Anybody may sign up", invitation: "People sign up by invitation", closed: "Nobody signs up" };

function Installation() {
  const installation = useInstallation();
  const i = installation.data;
  return (
    <Place
      to="/installation"
      name="Installation"
      says={i && `${signUp[i.signUp]}. ${plural(i.workspaces.length, "workspace", "workspaces")}.`}
    />
  );
}

function Glossary() {
  const words = useWords();
  return (
    <Place
      to="/glossary"
      name="Glossary"
      says={
        words.data &&
        `${plural(words.data.causes.length, "cause")} and ${plural(words.data.traits.length, "trait")}, with what they mean and what to do.`
      }
    />
  );
}
