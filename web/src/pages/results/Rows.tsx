import { useInfiniteQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { useRef, useState, type KeyboardEvent } from "react";
import { api, told, type Result, type Run } from "../../api/client";
import { AddressText } from "../../parts/AddressText";
import { DecisionMark } from "../../parts/DecisionMark";
import { Trouble, Wait } from "../../parts/Notice";
import { number, plural } from "../../words";
import { Chosen } from "./Chosen";
import type { Filter } from "./filter";

const pageSize = 100;
/** So many can be chosen at once; the service takes no more. */
const mostChosen = 1000;

/** Rows are the results that fit, page after page; some of them can be chosen. */
export function Rows({ run, filter, onOpen }: { run: Run; filter: Filter; onOpen: (address: number) => void }) {
  const pages = useInfiniteQuery({
    queryKey: ["results", run.id, filter, run.finishedAt ?? "live"],
    initialPageParam: 0,
    queryFn: async ({ pageParam }) => told(await api.GET("/runs/{id}/results", { params: { path: { id: run.id }, query: { ...filter, after: pageParam, limit: pageSize } } })),
    getNextPageParam: (last: Result[]) => (last.length === pageSize ? last[last.length - 1]!.address : undefined),
    refetchInterval: run.finishedAt ? false : 3000,
  });
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const body = useRef<HTMLTableSectionElement>(null);
  const walk = (e: KeyboardEvent) => {
    const by = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (!by || !body.current) return;
    e.preventDefault();
    const buttons = [...body.current.querySelectorAll("button")];
    const at = buttons.findIndex((b) => b.closest("tr")?.contains(document.activeElement));
    buttons[Math.max(0, at + by)]?.focus();
  };
  if (pages.error) return <Trouble error={pages.error} again={() => void pages.refetch()} />;
  if (!pages.data) return <Wait for="the results" />;
  const rows = pages.data.pages.flat();
  if (rows.length === 0) return <p>No concluded address fits this filter.</p>;
  const choose = (address: number, on: boolean) => setChosen((old) => {
    const next = new Set(old);
    if (on && next.size < mostChosen) next.add(address);
    else next.delete(address);
    return next;
  });
  const here = rows.filter((r) => chosen.has(r.address));
  return (
    <>
      <p className="quiet" role="status">{pages.hasNextPage ? `The first ${number(rows.length)} that fit.` : `${plural(rows.length, "address fits", "addresses fit")}.`} Arrow keys walk the rows, Enter opens the evidence.</p>
      <Chosen run={run} chosen={here} clear={() => setChosen(new Set())} />
      <div className="scroll">
        <table className="rows results">
          <thead><tr>
            <th><input type="checkbox" aria-label="Choose all that are shown" checked={here.length > 0 && here.length === Math.min(rows.length, mostChosen)} onChange={(e) => setChosen(new Set(e.target.checked ? rows.slice(0, mostChosen).map((r) => r.address) : []))} /></th>
            <th>Decision</th><th>Address</th><th>Finding</th><th>Cause</th><th>Traits</th><th className="number">Odds</th>
          </tr></thead>
          <tbody ref={body} onKeyDown={walk}>{rows.map((r) => <Row key={r.address} result={r} chosen={chosen.has(r.address)} onChoose={(on) => choose(r.address, on)} onOpen={onOpen} />)}</tbody>
        </table>
      </div>
      {pages.hasNextPage && <Button loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>Show {pageSize} more</Button>}
    </>
  );
}

function Row({ result: r, chosen, onChoose, onOpen }: { result: Result; chosen: boolean; onChoose: (on: boolean) => void; onOpen: (address: number) => void }) {
  return (
    <tr className={chosen ? "is-chosen" : undefined}>
      <td><input type="checkbox" aria-label={`Choose ${r.typed.slice(0, 120)}`} checked={chosen} onChange={(e) => onChoose(e.target.checked)} /></td>
      <td><DecisionMark decision={r.decision} />{r.byHand && <small className="quiet">by hand</small>}</td>
      <td><button type="button" className="plain" onClick={() => onOpen(r.address)}><AddressText text={r.typed} /></button></td>
      <td>{r.finding}</td>
      <td>{r.title}</td>
      <td>{r.traits.join(", ")}{r.suggestion && <span className="quiet"> meant perhaps: <AddressText text={r.suggestion} /></span>}</td>
      <td className="number">{Math.round(r.odds * 100)} in 100</td>
    </tr>
  );
}
