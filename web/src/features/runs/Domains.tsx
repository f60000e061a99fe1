import { Input, Segmented } from "antd";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, type Run, type Schema, told } from "../../api/client";
import { useRun, useSettled } from "../../api/hooks";
import { AddressText } from "../../parts/AddressText";
import { Trouble, Wait } from "../../parts/Notice";
import { ago, number, plural, share } from "../../words";
import { FoundBar } from "./FoundBar";
import { Places } from "./Places";

/** Domains shows all domains of a run's list, or who runs their mail hosts, with what was found out at each. */
export function Domains() {
  const run = useRun(Number(useParams().id));
  const [at, setAt] = useSearchParams();
  const operators = at.get("by") === "operator";
  const [text, setText] = useState("");
  const search = useSettled(text.trim(), 300);
  if (run.error) return <Trouble error={run.error} again={() => void run.refetch()} />;
  if (!run.data) return <Wait for="the run" />;
  const r = run.data;
  const one = operators ? "operator" : "domain";
  return (
    <>
      <p className="path">
        <Link to="/lists">Lists</Link> →{" "}
        <Link to={`/lists/${r.listId}`}>
          <bdi>{r.listName}</bdi>
        </Link>{" "}
        → <Link to={`/runs/${r.id}`}>Run {r.id}</Link> →
      </p>
      <div className="title">
        <h1>{operators ? "Operators" : "Domains"}</h1>
        <Segmented
          aria-label="What to list"
          value={one}
          onChange={(v) => setAt(v === "operator" ? { by: v } : {}, { replace: true })}
          options={[
            { value: "domain", label: "Domains" },
            { value: "operator", label: "Operators of their mail hosts" },
          ]}
        />
      </div>
      <Input
        id="search"
        type="search"
        aria-label={`Part of the name of a ${one}`}
        placeholder="part of a name  ( / )"
        value={text}
        onChange={(e) => setText(e.target.value)}
        style={{ maxWidth: 480 }}
      />
      {operators ? <Operators run={r} search={search} /> : <AllDomains run={r} search={search} />}
    </>
  );
}

type Of = { run: Run; search: string };

function AllDomains({ run, search }: Of) {
  return (
    <Places
      run={run}
      search={search}
      kind={{
        one: "domain",
        heads: ["Domain", "Addresses", "What was found", "Its mail hosts"],
        name: (d: Schema<"DomainCount">) => d.domain,
        load: async (page) =>
          told(await api.GET("/runs/{id}/domains", { params: { path: { id: run.id }, query: { search, ...page } } })),
        row: (d, most) => (
          <tr key={d.domain}>
            <td>
              <Link to={`/runs/${run.id}/results?domain=${encodeURIComponent(d.domain)}`}>
                <AddressText text={d.domain} />
              </Link>
            </td>
            <Size run={run} addresses={d.addresses} />
            <td>
              <FoundBar findings={d.findings} addresses={d.addresses} most={most} />
            </td>
            <td>
              {d.operator ? (
                <Link to={`/runs/${run.id}/results?operator=${encodeURIComponent(d.operator)}`}>
                  <AddressText text={d.operator} />
                </Link>
              ) : (
                <span className="quiet">none</span>
              )}
              {d.acceptance && (
                <small className="quiet">
                  {d.acceptance}
                  {d.since && ` Learnt ${ago(d.since)}.`}
                </small>
              )}
            </td>
          </tr>
        ),
      }}
    />
  );
}

function Operators({ run, search }: Of) {
  return (
    <Places
      run={run}
      search={search}
      kind={{
        one: "operator",
        heads: ["Operator", "Addresses", "What was found", "Domains"],
        name: (o: Schema<"OperatorCount">) => o.operator,
        load: async (page) =>
          told(await api.GET("/runs/{id}/operators", { params: { path: { id: run.id }, query: { search, ...page } } })),
        row: (o, most) => (
          <tr key={o.operator}>
            <td>
              <Link to={`/runs/${run.id}/results?operator=${encodeURIComponent(o.operator)}`}>
                <AddressText text={o.operator} />
              </Link>
            </td>
            <Size run={run} addresses={o.addresses} />
            <td>
              <FoundBar findings={o.findings} addresses={o.addresses} most={most} />
            </td>
            <td>{plural(o.domains, "domain")} of the list</td>
          </tr>
        ),
      }}
    />
  );
}

function Size({ run, addresses }: { run: Run; addresses: number }) {
  return (
    <td className="number">
      {number(addresses)}
      <span className="quiet"> {share(addresses, run.addresses, "addresses")}</span>
    </td>
  );
}
