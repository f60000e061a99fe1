import { useInfiniteQuery } from "@tanstack/react-query";
import { Button, Input, Select } from "antd";
import { useEffect, useRef, useState, type KeyboardEvent } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, told, type Result, type Run } from "../api/client";
import { useRun } from "../api/hooks";
import { AddressText } from "../parts/AddressText";
import { DecisionMark } from "../parts/DecisionMark";
import { EvidenceDrawer } from "../parts/EvidenceDrawer";
import { Trouble, Wait } from "../parts/Notice";
import { findings, number, plural } from "../words";

const filterNames = ["finding", "cause", "stage", "trait", "domain", "operator", "decision", "search"] as const;
type Filter = Partial<Record<(typeof filterNames)[number], string>>;
const pageSize = 100;

export function Results() {
  const id = Number(useParams().id);
  const run = useRun(id);
  const [search, setSearch] = useSearchParams();
  const filter: Filter = Object.fromEntries(filterNames.flatMap((n) => (search.get(n) ? [[n, search.get(n)!]] : [])));
  const change = (name: string, value: string | undefined) =>
    setSearch((old) => {
      const next = new URLSearchParams(old);
      if (value) next.set(name, value);
      else next.delete(name);
      return next;
    }, { replace: name === "address" });
  const open = search.get("address");
  if (run.error) return <Trouble error={run.error} again={() => void run.refetch()} />;
  if (!run.data) return <Wait for="the run" />;
  return (
    <>
      <p className="path"><Link to="/lists">Lists</Link> → <Link to={`/lists/${run.data.listId}`}><bdi>{run.data.listName}</bdi></Link> → <Link to={`/runs/${id}`}>Run {id}</Link> →</p>
      <div className="title">
        <h1>Results</h1>
        <Link to={`/runs/${id}/take-out?${new URLSearchParams({ decision: "all", ...filter })}`}>Take these rows out</Link>
      </div>
      <Filters run={run.data} filter={filter} change={change} />
      <Rows run={run.data} filter={filter} onOpen={(a) => change("address", String(a))} />
      <EvidenceDrawer run={id} address={open === null ? undefined : Number(open)} onClose={() => change("address", undefined)} />
    </>
  );
}

function Filters({ run, filter, change }: { run: Run; filter: Filter; change: (name: string, value: string | undefined) => void }) {
  const [text, setText] = useState(filter.search ?? "");
  useEffect(() => {
    const timer = setTimeout(() => { if (text !== (filter.search ?? "")) change("search", text); }, 300);
    return () => clearTimeout(timer);
  });
  const count = (fits: (c: Run["causes"][number]) => boolean) => run.causes.filter(fits).reduce((n, c) => n + c.addresses, 0);
  const causes = run.causes.filter((c) => (!filter.finding || c.finding === filter.finding) && (!filter.stage || c.stage === filter.stage));
  return (
    <>
      <div className="filters">
        <Select aria-label="Finding" value={filter.finding ?? ""} onChange={(v) => change("finding", v)} popupMatchSelectWidth={false}
          options={[{ value: "", label: "any finding" }, ...findings.map((f) => ({ value: f, label: `${f} (${number(count((c) => c.finding === f))})` }))]} />
        <Select aria-label="Cause" value={filter.cause ?? ""} onChange={(v) => change("cause", v)} popupMatchSelectWidth={false}
          options={[{ value: "", label: "any cause" }, ...causes.map((c) => ({ value: c.cause, label: `${c.title} (${number(c.addresses)})` }))]} />
        <Select aria-label="Decision" value={filter.decision ?? ""} onChange={(v) => change("decision", v)} popupMatchSelectWidth={false}
          options={[{ value: "", label: "any decision" }, ...["keep", "hold", "drop"].map((d) => ({ value: d, label: d }))]} />
        <Input id="search" type="search" aria-label="Part of an address" placeholder="part of an address  ( / )" value={text} onChange={(e) => setText(e.target.value)} />
      </div>
      {filter.stage && <p>Only what left at the stage “{filter.stage}”. <button type="button" className="plain" onClick={() => change("stage", undefined)}>Show all stages</button></p>}
    </>
  );
}

function Rows({ run, filter, onOpen }: { run: Run; filter: Filter; onOpen: (address: number) => void }) {
  const pages = useInfiniteQuery({
    queryKey: ["results", run.id, filter, run.finishedAt ?? "live"],
    initialPageParam: 0,
    queryFn: async ({ pageParam }) => told(await api.GET("/runs/{id}/results", { params: { path: { id: run.id }, query: { ...filter, after: pageParam, limit: pageSize } } })),
    getNextPageParam: (last: Result[]) => (last.length === pageSize ? last[last.length - 1]!.address : undefined),
    refetchInterval: run.finishedAt ? false : 3000,
  });
  const body = useRef<HTMLTableSectionElement>(null);
  const walk = (e: KeyboardEvent) => {
    const by = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (!by || !body.current) return;
    e.preventDefault();
    const buttons = [...body.current.querySelectorAll("button")];
    buttons[Math.max(0, buttons.indexOf(document.activeElement as HTMLButtonElement) + by)]?.focus();
  };
  if (pages.error) return <Trouble error={pages.error} again={() => void pages.refetch()} />;
  if (!pages.data) return <Wait for="the results" />;
  const rows = pages.data.pages.flat();
  if (rows.length === 0) return <p>No concluded address fits this filter.</p>;
  return (
    <>
      <p className="quiet" role="status">{pages.hasNextPage ? `The first ${number(rows.length)} that fit.` : `${plural(rows.length, "address fits", "addresses fit")}.`} Arrow keys walk the rows, Enter opens the evidence.</p>
      <div className="scroll">
        <table className="rows results">
          <thead><tr><th>Decision</th><th>Address</th><th>Finding</th><th>Cause</th><th>Traits</th><th className="number">Odds</th></tr></thead>
          <tbody ref={body} onKeyDown={walk}>{rows.map((r) => <Row key={r.address} result={r} onOpen={onOpen} />)}</tbody>
        </table>
      </div>
      {pages.hasNextPage && <Button loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>Show {pageSize} more</Button>}
    </>
  );
}

function Row({ result: r, onOpen }: { result: Result; onOpen: (address: number) => void }) {
  return (
    <tr>
      <td><DecisionMark decision={r.decision} /></td>
      <td><button type="button" className="plain" onClick={() => onOpen(r.address)}><AddressText text={r.typed} /></button></td>
      <td>{r.finding}</td>
      <td>{r.title}</td>
      <td>{r.traits.join(", ")}{r.suggestion && <span className="quiet"> meant perhaps: <AddressText text={r.suggestion} /></span>}</td>
      <td className="number">{Math.round(r.odds * 100)} in 100</td>
    </tr>
  );
}
