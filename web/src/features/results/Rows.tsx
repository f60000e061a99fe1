import { useInfiniteQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { type KeyboardEvent, useRef, useState } from "react";
import { api, type Result, type Run, told } from "../../api/client";
import { AddressText } from "../../parts/AddressText";
import { DecisionMark } from "../../parts/DecisionMark";
import { Trouble, Wait } from "../../parts/Notice";
import { number, plural } from "../../words";
import { AllChosen, Chosen } from "./Chosen";
import type { Filter } from "./filter";
import { useMatching } from "./useMatching";

const pageSize = 100;
/** So many can be chosen at once; the service takes no more. */
const mostChosen = 1000;

/** shown says how many results are shown, and of how many where there are more. */
function shown(rows: number, whole: string | undefined, filtered: boolean): string {
  if (whole !== undefined) return `The first ${number(rows)} of ${whole} ${filtered ? "that match" : "addresses"}.`;
  return filtered
    ? `${plural(rows, "address matches", "addresses match")}.`
    : `${plural(rows, "address", "addresses")}, all that are concluded.`;
}

/** Rows are the results that fit, page after page; some of them can be chosen. */
export function Rows({ run, filter, onOpen }: { run: Run; filter: Filter; onOpen: (address: number) => void }) {
  const pages = useInfiniteQuery({
    queryKey: ["results", run.id, filter, run.finishedAt ?? "live"],
    initialPageParam: undefined as string | undefined,
    queryFn: async ({ pageParam }) =>
      told(
        await api.GET("/runs/{id}/results", {
          params: { path: { id: run.id }, query: { ...filter, cursor: pageParam, limit: pageSize } },
        }),
      ),
    getNextPageParam: (last) => last.next,
  });
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const fits = useMatching(run, filter);
  const [all, setAll] = useState(false); // that fit, shown or not
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
  const rows = pages.data.pages.flatMap((p) => p.items);
  if (rows.length === 0) return <p>No concluded address matches this filter.</p>;
  const whole = fits.data ? `${fits.data.more ? "more than " : ""}${number(fits.data.addresses)}` : "all";
  const set = (next: ReadonlySet<number>) => {
    setAll(false);
    setChosen(next);
  };
  const choose = (address: number, on: boolean) => {
    const next = new Set(chosen);
    if (on && next.size < mostChosen) next.add(address);
    else next.delete(address);
    set(next);
  };
  const here = rows.filter((r) => chosen.has(r.ordinal));
  const allShown = here.length > 0 && here.length === Math.min(rows.length, mostChosen);
  return (
    <>
      <p className="quiet" role="status">
        {shown(rows.length, pages.hasNextPage ? whole : undefined, Object.keys(filter).length > 0)} Arrow keys walk the
        rows, Enter opens the evidence.
      </p>
      {all ? (
        <AllChosen run={run} filter={filter} clear={() => set(new Set())} />
      ) : (
        <Chosen run={run} chosen={here} clear={() => set(new Set())} />
      )}
      {!all && allShown && pages.hasNextPage && (
        <p className="said">
          All that are shown are chosen.{" "}
          <button type="button" className="plain" onClick={() => setAll(true)}>
            Choose all that match
          </button>
        </p>
      )}
      <div className="scroll">
        <table className="rows results">
          <thead>
            <tr>
              <th>
                <input
                  type="checkbox"
                  aria-label="Choose all that are shown"
                  checked={all || allShown}
                  onChange={(e) =>
                    set(new Set(e.target.checked ? rows.slice(0, mostChosen).map((r) => r.ordinal) : []))
                  }
                />
              </th>
              <th>Decision</th>
              <th>Address</th>
              <th>Finding</th>
              <th>Cause</th>
              <th>Traits</th>
              <th className="number">Odds</th>
            </tr>
          </thead>
          <tbody ref={body} onKeyDown={walk}>
            {rows.map((r) => (
              <Row
                key={r.ordinal}
                result={r}
                chosen={all || chosen.has(r.ordinal)}
                onChoose={(on) => choose(r.ordinal, on)}
                onOpen={onOpen}
              />
            ))}
          </tbody>
        </table>
      </div>
      {pages.hasNextPage && (
        <Button loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          Show {pageSize} more
        </Button>
      )}
    </>
  );
}

function Row({
  result: r,
  chosen,
  onChoose,
  onOpen,
}: {
  result: Result;
  chosen: boolean;
  onChoose: (on: boolean) => void;
  onOpen: (address: number) => void;
}) {
  return (
    <tr className={chosen ? "is-chosen" : undefined}>
      <td>
        <input
          type="checkbox"
          aria-label={`Choose ${r.typed.slice(0, 120)}`}
          checked={chosen}
          onChange={(e) => onChoose(e.target.checked)}
        />
      </td>
      <td>
        <DecisionMark decision={r.decision} />
        {r.overridden && <small className="quiet">overridden</small>}
      </td>
      <td>
        <button type="button" className="plain" onClick={() => onOpen(r.ordinal)}>
          <AddressText text={r.typed} />
        </button>
      </td>
      <td>{r.finding}</td>
      <td>{r.title}</td>
      <td>
        {r.traits.join(", ")}
        {r.suggestion && (
          <span className="quiet">
            {" "}
            did you mean <AddressText text={r.suggestion} />
          </span>
        )}
      </td>
      <td className="number">{Math.round(r.odds * 100)} in 100</td>
    </tr>
  );
}
