import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { Choice } from "../../parts/Choice";
import { For } from "../../parts/For";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { number, plural } from "../../words";
import { Days } from "./Days";
import { useAllowance } from "./queries";
import { Statement } from "./Statement";

type By = "day" | "run" | "routine" | "connection" | "key" | "person";

const bys: { value: By; label: string }[] = [
  { value: "day", label: "day" },
  { value: "run", label: "run" },
  { value: "routine", label: "routine" },
  { value: "connection", label: "connection" },
  { value: "key", label: "key" },
  { value: "person", label: "person" },
];

const spans = [30, 90, 365].map((days) => ({ value: days, label: `the last ${days} days` }));

/** Usage shows what is left, what was charged for what, and the statement of a month. */
export function Usage() {
  const allowance = useAllowance();
  if (allowance.error) return <Trouble error={allowance.error} again={() => void allowance.refetch()} />;
  if (!allowance.data) return <Wait for="the allowance" />;
  const a = allowance.data;
  if (!a.kept)
    return (
      <>
        <h1>Usage</h1>
        <p>No allowance is kept of this workspace: it may check as much as it likes, and nothing is charged.</p>
      </>
    );
  return (
    <>
      <h1>Usage</h1>
      <Sentence>{a.says}</Sentence>
      <For scope="manage">
        <p>
          <Link to="/purchases">{a.canBuy ? "Buy more, or have more bought automatically" : "Plan and settings"}</Link>
        </p>
      </For>
      <Charged />
      <Statement />
    </>
  );
}

function Charged() {
  const [by, setBy] = useState<By>("day");
  const [days, setDays] = useState(30);
  const usage = useQuery({
    queryKey: ["usage", by, days],
    placeholderData: keepPreviousData,
    queryFn: async () => told(await api.GET("/usage", { params: { query: { by, from: since(days) } } })),
  });
  const u = usage.data;
  return (
    <section>
      <h2>What was charged</h2>
      <div className="settle">
        <Choice label="By" value={by} onChange={setBy} options={bys} style={{ minWidth: 140 }} />
        <Choice label="Of" value={days} onChange={setDays} options={spans} style={{ minWidth: 160 }} />
        <a href={`/api/v1/usage/file?by=${by}&from=${encodeURIComponent(since(days))}`} download>
          As CSV
        </a>
      </div>
      {usage.error && <Trouble error={usage.error} again={() => void usage.refetch()} />}
      {u && u.items.length === 0 && <p>Nothing was charged in that time.</p>}
      {u && u.items.length > 0 && (
        <div className={u.by === "day" ? "halves even" : undefined}>
          {u.by === "day" && <Days of={u} days={days} />}
          <Items of={u} />
        </div>
      )}
    </section>
  );
}

/** since is the beginning of a day so many days ago. */
function since(days: number): string {
  const at = new Date();
  at.setDate(at.getDate() - days);
  at.setHours(0, 0, 0, 0);
  return at.toISOString();
}

const pages: Partial<Record<By, string>> = { run: "/runs", routine: "/routines", connection: "/connections" };

function Items({ of: u }: { of: Schema<"Usage"> }) {
  const page = pages[u.by as By];
  return (
    <Scroll label="What was charged">
      <table className="rows">
        <thead>
          <tr>
            <th>{bys.find((b) => b.value === u.by)?.label.replace(/^./, (c) => c.toUpperCase())}</th>
            <th className="number">Checks</th>
            <th className="number">Runs and single checks</th>
          </tr>
        </thead>
        <tbody>
          {u.items.map((i) => (
            <tr key={`${i.id} ${i.label}`}>
              <td>
                {page && i.id ? (
                  <Link to={`${page}/${i.id}`}>
                    <bdi>{i.label}</bdi>
                    {u.by === "run" && `, run ${i.id}`}
                  </Link>
                ) : (
                  <bdi>{i.label}</bdi>
                )}
              </td>
              <td className="number">{number(i.checks)}</td>
              <td className="number">{number(i.times)}</td>
            </tr>
          ))}
        </tbody>
        <tfoot>
          <tr>
            <th>Together</th>
            <td className="number">{number(u.sum)}</td>
            <td />
          </tr>
        </tfoot>
      </table>
      <p className="quiet">{plural(u.items.length, u.by)} in all.</p>
    </Scroll>
  );
}
