import { useQuery } from "@tanstack/react-query";
import { Input, Select } from "antd";
import { useEffect, useState } from "react";
import { api, type Run, type Schema, told } from "../../api/client";
import { useWords } from "../../api/hooks";
import { glyphs, number } from "../../words";
import type { Filter } from "./filter";
import { useMatching } from "./useMatching";

type Facet = Schema<"Facet">;
const decisions = Object.keys(glyphs);

export type Change = (values: Record<string, string | undefined>) => void;

/** The spans of the odds that can be chosen, from and below. */
const spans: [string, string, string][] = [
  ["", "", "any odds"],
  ["0.9", "", "90 in 100 or more"],
  ["0.5", "0.9", "50 to 90 in 100"],
  ["0.1", "0.5", "10 to 50 in 100"],
  ["", "0.1", "under 10 in 100"],
];

/** Filters chooses results; what is chosen stands below as a sentence. */
export function Filters({ run, filter, change }: { run: Run; filter: Filter; change: Change }) {
  const words = useWords();
  const [text, setText] = useState(filter.search ?? "");
  useEffect(() => {
    const timer = setTimeout(() => {
      if (text !== (filter.search ?? "")) change({ search: text });
    }, 300);
    return () => clearTimeout(timer);
  });
  const fits = useMatching(run, filter);
  const titles = new Map((words.data?.causes ?? []).map((c) => [c.code as string, c.title]));
  /** The values that a part of the filter can have: those that something fits, how many, and those that are there always. */
  const options = (part: Facet["part"], any: string, always: (string | undefined)[]) => {
    const counted = (fits.data?.facets ?? []).filter((f) => f.part === part);
    const others = always.filter((v): v is string => !!v && !counted.some((f) => f.value === v));
    const title = (value: string) => titles.get(value) ?? value;
    return [
      { value: "", label: any },
      ...counted.map((f) => ({ value: f.value, label: `${title(f.value)} (${number(f.addresses)})` })),
      ...others.map((value) => ({ value, label: title(value) })),
    ];
  };
  const span = Math.max(
    0,
    spans.findIndex(
      ([from, below]) => Number(from) === (filter.oddsFrom ?? 0) && Number(below) === (filter.oddsBelow ?? 0),
    ),
  );
  return (
    <>
      <div className="filters">
        <Select
          aria-label="Finding"
          value={filter.finding ?? ""}
          onChange={(v) => change({ finding: v })}
          popupMatchSelectWidth={false}
          options={options("finding", "any finding", [filter.finding])}
        />
        <Select
          aria-label="Cause"
          value={filter.cause ?? ""}
          onChange={(v) => change({ cause: v })}
          popupMatchSelectWidth={false}
          options={options("cause", "any cause", [filter.cause])}
        />
        <Select
          aria-label="Decision"
          value={filter.decision ?? ""}
          onChange={(v) => change({ decision: v })}
          popupMatchSelectWidth={false}
          options={options("decision", "any decision", decisions)}
        />
        <Select
          aria-label="Trait"
          value={filter.trait ?? ""}
          onChange={(v) => change({ trait: v })}
          popupMatchSelectWidth={false}
          options={options("trait", "any trait", [filter.trait])}
        />
        <Select
          aria-label="Odds"
          value={span}
          onChange={(i) => change({ oddsFrom: spans[i]![0], oddsBelow: spans[i]![1] })}
          popupMatchSelectWidth={false}
          options={spans.map(([, , label], i) => ({ value: i, label }))}
        />
        <Input
          id="search"
          type="search"
          aria-label="Part of an address"
          placeholder="part of an address  ( / )"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
      </div>
      <Said filter={filter} change={change} clear={() => setText("")} />
    </>
  );
}

/** Said is the filter as a sentence, with the way back to all. */
function Said({ filter, change, clear }: { filter: Filter; change: Change; clear: () => void }) {
  const said = useQuery({
    queryKey: ["filter", filter],
    staleTime: Infinity,
    placeholderData: (old: { sentence: string } | undefined) => old,
    queryFn: async () => told(await api.GET("/filter", { params: { query: filter } })),
  });
  const names = Object.keys(filter);
  if (!said.data || names.length === 0) return null;
  const all = () => {
    clear();
    change(Object.fromEntries(names.map((n) => [n, undefined])));
  };
  return (
    <p className="said">
      <bdi>{said.data.sentence}</bdi>{" "}
      <button type="button" className="plain" onClick={all}>
        Show all
      </button>
    </p>
  );
}
