import { useQuery } from "@tanstack/react-query";
import { Input, Select } from "antd";
import { useEffect, useState } from "react";
import { api, told, type Run } from "../../api/client";
import { useWords } from "../../api/hooks";
import { findings, number } from "../../words";
import type { Filter } from "./filter";

export type Change = (values: Record<string, string | undefined>) => void;

/** The spans of the odds that can be chosen, from and below. */
const spans: [string, string, string][] = [["", "", "any odds"], ["0.9", "", "90 in 100 or more"], ["0.5", "0.9", "50 to 90 in 100"], ["0.1", "0.5", "10 to 50 in 100"], ["", "0.1", "under 10 in 100"]];

/** Filters chooses results; what is chosen stands below as a sentence. */
export function Filters({ run, filter, change }: { run: Run; filter: Filter; change: Change }) {
  const words = useWords();
  const [text, setText] = useState(filter.search ?? "");
  useEffect(() => {
    const timer = setTimeout(() => { if (text !== (filter.search ?? "")) change({ search: text }); }, 300);
    return () => clearTimeout(timer);
  });
  const count = (fits: (c: Run["causes"][number]) => boolean) => run.causes.filter(fits).reduce((n, c) => n + c.addresses, 0);
  const causes = run.causes.filter((c) => (!filter.finding || c.finding === filter.finding) && (!filter.stage || c.stage === filter.stage));
  const span = Math.max(0, spans.findIndex(([from, below]) => Number(from) === (filter.oddsFrom ?? 0) && Number(below) === (filter.oddsBelow ?? 0)));
  return (
    <>
      <div className="filters">
        <Select aria-label="Finding" value={filter.finding ?? ""} onChange={(v) => change({ finding: v })} popupMatchSelectWidth={false}
          options={[{ value: "", label: "any finding" }, ...findings.map((f) => ({ value: f, label: `${f} (${number(count((c) => c.finding === f))})` }))]} />
        <Select aria-label="Cause" value={filter.cause ?? ""} onChange={(v) => change({ cause: v })} popupMatchSelectWidth={false}
          options={[{ value: "", label: "any cause" }, ...causes.map((c) => ({ value: c.cause, label: `${c.title} (${number(c.addresses)})` }))]} />
        <Select aria-label="Decision" value={filter.decision ?? ""} onChange={(v) => change({ decision: v })} popupMatchSelectWidth={false}
          options={[{ value: "", label: "any decision" }, ...["keep", "hold", "drop"].map((d) => ({ value: d, label: d }))]} />
        <Select aria-label="Trait" value={filter.trait ?? ""} onChange={(v) => change({ trait: v })} popupMatchSelectWidth={false}
          options={[{ value: "", label: "any trait" }, ...(words.data?.traits ?? []).map((t) => ({ value: t.code, label: t.code }))]} />
        <Select aria-label="Odds" value={span} onChange={(i) => change({ oddsFrom: spans[i]![0], oddsBelow: spans[i]![1] })} popupMatchSelectWidth={false}
          options={spans.map(([, , label], i) => ({ value: i, label }))} />
        <Input id="search" type="search" aria-label="Part of an address" placeholder="part of an address  ( / )" value={text} onChange={(e) => setText(e.target.value)} />
      </div>
      <Said filter={filter} change={change} clear={() => setText("")} />
    </>
  );
}

/** Said is the filter as a sentence, with the way back to all. */
function Said({ filter, change, clear }: { filter: Filter; change: Change; clear: () => void }) {
  const said = useQuery({ queryKey: ["filter", filter], staleTime: Infinity, placeholderData: (old: { sentence: string } | undefined) => old,
    queryFn: async () => told(await api.GET("/filter", { params: { query: filter } })) });
  const names = Object.keys(filter);
  if (!said.data || names.length === 0) return null;
  const all = () => { clear(); change(Object.fromEntries(names.map((n) => [n, undefined]))); };
  return <p className="said"><bdi>{said.data.sentence}</bdi> <button type="button" className="plain" onClick={all}>Show all</button></p>;
}
