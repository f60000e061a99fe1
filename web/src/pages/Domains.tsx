import { useInfiniteQuery } from "@tanstack/react-query";
import { Button, Input } from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, told, type Run, type Schema } from "../api/client";
import { useRun, useSettled } from "../api/hooks";
import { AddressText } from "../parts/AddressText";
import { Trouble, Wait } from "../parts/Notice";
import { ago, number, plural, share, tones } from "../words";

type Domain = Schema<"DomainCount">;
const pageSize = 50;

/** Domains shows all domains of a run's list, the largest first, with what was found out at each. */
export function Domains() {
  const run = useRun(Number(useParams().id));
  const [text, setText] = useState("");
  const search = useSettled(text.trim(), 300);
  if (run.error) return <Trouble error={run.error} again={() => void run.refetch()} />;
  if (!run.data) return <Wait for="the run" />;
  const r = run.data;
  return (
    <>
      <p className="path"><Link to="/lists">Lists</Link> → <Link to={`/lists/${r.listId}`}><bdi>{r.listName}</bdi></Link> → <Link to={`/runs/${r.id}`}>Run {r.id}</Link> →</p>
      <h1>Domains</h1>
      <Input id="search" type="search" aria-label="Part of a domain" placeholder="part of a domain  ( / )" value={text} onChange={(e) => setText(e.target.value)} style={{ maxWidth: 480 }} />
      <Table run={r} search={search} />
    </>
  );
}

function Table({ run, search }: { run: Run; search: string }) {
  const pages = useInfiniteQuery({
    queryKey: ["domains", run.id, search, run.finishedAt ?? "live"],
    initialPageParam: { after: "", afterSize: 0 },
    queryFn: async ({ pageParam }) => told(await api.GET("/runs/{id}/domains", { params: { path: { id: run.id }, query: { search, ...pageParam, limit: pageSize } } })),
    getNextPageParam: (last: Domain[]) => (last.length === pageSize ? { after: last[pageSize - 1]!.domain, afterSize: last[pageSize - 1]!.addresses } : undefined),
    refetchInterval: run.finishedAt ? false : 5000,
  });
  if (pages.error) return <Trouble error={pages.error} again={() => void pages.refetch()} />;
  if (!pages.data) return <Wait for="the domains" />;
  const rows = pages.data.pages.flat();
  if (rows.length === 0) return <p>No domain of the list has this in its name.</p>;
  const most = rows[0]!.addresses;
  return (
    <>
      <p className="quiet" role="status">{pages.hasNextPage ? `The first ${number(rows.length)}, the largest first.` : plural(rows.length, "domain") + ", the largest first."}</p>
      <div className="scroll" tabIndex={0} role="region" aria-label="Domains">
        <table className="rows">
          <thead><tr><th>Domain</th><th className="number">Addresses</th><th>What was found</th><th>Its mail hosts</th></tr></thead>
          <tbody>{rows.map((d) => <Row key={d.domain} run={run} domain={d} most={most} />)}</tbody>
        </table>
      </div>
      {pages.hasNextPage && <Button loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>Show {pageSize} more</Button>}
    </>
  );
}

function Row({ run, domain: d, most }: { run: Run; domain: Domain; most: number }) {
  const said = d.findings.map((f) => `${number(f.addresses)} ${f.finding}`).join(", ") || "nothing yet";
  return (
    <tr>
      <td><Link to={`/runs/${run.id}/results?domain=${encodeURIComponent(d.domain)}`}><AddressText text={d.domain} /></Link></td>
      <td className="number">{number(d.addresses)}<span className="quiet"> {share(d.addresses, run.addresses, "addresses")}</span></td>
      <td>
        <span className="domain-bar" style={{ width: `${Math.max(2, (100 * d.addresses) / most)}%` }} aria-hidden="true">
          {d.findings.map((f) => <span key={f.finding} className={`${tones[f.finding]} ${f.finding === "undecided" ? "fine" : ""}`} style={{ flexGrow: f.addresses }} />)}
        </span>
        <span className="quiet">{said}</span>
      </td>
      <td>{d.operator ? <Link to={`/runs/${run.id}/results?operator=${encodeURIComponent(d.operator)}`}><AddressText text={d.operator} /></Link> : <span className="quiet">none</span>}{d.manner && <small className="quiet">{d.manner}{d.since && ` Learnt ${ago(d.since)}.`}</small>}</td>
    </tr>
  );
}
