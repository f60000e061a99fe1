import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Button, Select } from "antd";
import { useSearchParams } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { useSession } from "../../api/hooks";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { moment } from "../../words";
import { useTeam } from "../team/queries";

type Entry = Schema<"AuditEntry">;
type Query = { person?: number; action?: string; from?: string };

const spans = [
  { value: 0, label: "at any time" },
  { value: 1, label: "in the last day" },
  { value: 7, label: "in the last 7 days" },
  { value: 30, label: "in the last 30 days" },
];

function useEntries(outside: boolean, query: Query) {
  return useInfiniteQuery({
    queryKey: ["audit", outside, query],
    initialPageParam: undefined as string | undefined,
    queryFn: async ({ pageParam }) => {
      const params = { query: { ...query, cursor: pageParam, limit: 100 } };
      return told(outside ? await api.GET("/installation/audit", { params }) : await api.GET("/audit", { params }));
    },
    getNextPageParam: (last) => last.next,
    select: (pages) => pages.pages.flatMap((p) => p.items),
  });
}

/** Audit is the audit trail of the workspace, or of the installation. */
export function Audit() {
  const session = useSession();
  const [search, setSearch] = useSearchParams();
  const keeper = session.data?.keeper === true;
  const manages = session.data?.scopes.includes("manage") === true;
  const outside = keeper && (search.get("of") === "installation" || !manages);
  const days = Number(search.get("days") ?? 0);
  const person = Number(search.get("person") ?? 0);
  const action = search.get("action") ?? "";
  const from = days > 0 ? new Date(new Date().setHours(0, 0, 0, 0) - (days - 1) * 86_400_000).toISOString() : undefined;
  const query = { ...(person > 0 && { person }), ...(action && { action }), ...(from && { from }) };
  const entries = useEntries(outside, query);
  const set = (name: string, value: string | number | undefined) =>
    setSearch((s) => {
      if (value) s.set(name, String(value));
      else s.delete(name);
      return s;
    });
  return (
    <>
      <h1>Audit trail</h1>
      <p>
        Who did what, on what, when and from where. Nothing in it can be changed; each entry has a fingerprint of the
        one before. It names addresses by fingerprint only.
      </p>
      {keeper && outside && <Verification />}
      <div className="add">
        {keeper && manages && (
          <Select
            aria-label="Of what"
            value={outside ? "installation" : "workspace"}
            onChange={(v) => set("of", v === "installation" ? v : undefined)}
            options={[
              { value: "workspace", label: "of this workspace" },
              { value: "installation", label: "of the installation" },
            ]}
            popupMatchSelectWidth={false}
          />
        )}
        {!outside && <Who value={person} onChange={(v) => set("person", v)} />}
        <Select
          aria-label="When"
          value={days}
          onChange={(v) => set("days", v)}
          options={spans}
          popupMatchSelectWidth={false}
        />
        {action && (
          <Button onClick={() => set("action", undefined)}>
            Only “{entries.data?.[0]?.says ?? action}” <span className="unseen">: show all</span> ×
          </Button>
        )}
        {!outside && <Button href={`/api/v1/audit/file${from ? `?from=${from}` : ""}`}>Export as JSON Lines</Button>}
      </div>
      {entries.error && <Trouble error={entries.error} />}
      {!entries.error && !entries.data && <Wait for="the entries" />}
      {entries.data?.length === 0 && <p>No entry matches.</p>}
      {entries.data && entries.data.length > 0 && (
        <Scroll label="Audit trail">
          <table className="rows">
            <thead>
              <tr>
                <th>When</th>
                <th>Who</th>
                <th>What</th>
                <th>On</th>
                <th>From</th>
                <th>Result</th>
              </tr>
            </thead>
            <tbody>
              {entries.data.map((e) => (
                <Row key={e.seq} of={e} onAction={() => set("action", e.action)} />
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
      {entries.hasNextPage && (
        <Button onClick={() => void entries.fetchNextPage()} loading={entries.isFetchingNextPage}>
          Earlier entries
        </Button>
      )}
    </>
  );
}

function who(e: Entry): string {
  if (e.personId) return e.person ?? `person ${e.personId}, who is gone`;
  if (e.keyId) return e.key ? `the key “${e.key}”` : `key ${e.keyId}`;
  return e.job ? `the job “${e.job}”` : "nobody known";
}

function Row({ of: e, onAction }: { of: Entry; onAction: () => void }) {
  return (
    <tr className={e.result === "refused" ? "refused" : undefined}>
      <td className="when">{moment(e.at)}</td>
      <td>
        <bdi>{who(e)}</bdi>
      </td>
      <td>
        <button type="button" className="plain quiet-link" onClick={onAction}>
          {e.says || e.action}
        </button>
        {e.detail && <small className="quiet">{e.detail}</small>}
      </td>
      <td>
        {e.thing}
        {e.address && <small className="quiet">address {e.address}</small>}
      </td>
      <td>{e.from}</td>
      <td>{e.result}</td>
    </tr>
  );
}

function Who({ value, onChange }: { value: number; onChange: (id: number | undefined) => void }) {
  const team = useTeam();
  return (
    <Select
      aria-label="Who"
      value={value}
      onChange={(v) => onChange(v || undefined)}
      options={[
        { value: 0, label: "by anybody" },
        ...(team.data?.members ?? []).map((m) => ({ value: m.id, label: `by ${m.name}` })),
      ]}
      popupMatchSelectWidth={false}
    />
  );
}

/** Verification holds the trail against its hashes, once it is asked to. */
function Verification() {
  const verify = useQuery({
    queryKey: ["audit-verification"],
    queryFn: async () => told(await api.GET("/installation/audit/verification")),
    enabled: false,
  });
  return (
    <>
      {verify.data && <Sentence>{verify.data.says}</Sentence>}
      {verify.data && (
        <p className="quiet">
          The last is entry {verify.data.last}, with the hash <code className="secret">{verify.data.hash}</code>. Note
          it elsewhere, and nobody can put another trail in the place of this one.
        </p>
      )}
      {verify.error && <Trouble error={verify.error} />}
      <Button onClick={() => void verify.refetch()} loading={verify.isFetching}>
        Verify the whole trail
      </Button>
    </>
  );
}
