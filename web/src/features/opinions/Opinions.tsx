import { useQuery } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { useList } from "../../api/hooks";
import { For } from "../../parts/For";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { Apart } from "./Apart";
import { Matrix } from "./Matrix";
import { Words } from "./Words";

/** Opinions holds what other checks found of a list beside what its last run found. */
export function Opinions() {
  const id = Number(useParams().id);
  const list = useList(id);
  const opinions = useQuery({
    queryKey: ["list-opinions", id, list.data?.lastRun?.done],
    enabled: list.data !== undefined,
    queryFn: async () => told(await api.GET("/lists/{id}/opinions", { params: { path: { id } } })),
  });
  const error = list.error ?? opinions.error;
  if (error) return <Trouble error={error} again={() => void opinions.refetch()} />;
  if (!list.data || !opinions.data) return <Wait for="the checks" />;
  const o = opinions.data;
  return (
    <>
      <p className="path">
        <Link to="/lists">Lists</Link> →{" "}
        <Link to={`/lists/${id}`}>
          <bdi>{list.data.name}</bdi>
        </Link>{" "}
        →
      </p>
      <h1>Second opinions</h1>
      {o.checks.length === 0 && (
        <>
          <Sentence>{o.says}</Sentence>
          <For scope="import">
            <p>
              <Link to={`/lists/${id}/meanings`}>Say what its columns hold</Link>
            </p>
          </For>
        </>
      )}
      {o.checks.map((c) => (
        <Check key={c.name} list={id} run={o.runId} c={c} ours={o.ours} />
      ))}
    </>
  );
}

function Check({
  list,
  run,
  c,
  ours,
}: {
  list: number;
  run: number | undefined;
  c: Schema<"OpinionCheck">;
  ours: Schema<"OpinionJudged">;
}) {
  const [search, setSearch] = useSearchParams();
  const chosen = search.get("check") === c.name;
  return (
    <section className="matrix-of">
      <h2>
        <bdi>{c.name}</bdi> and Varnet
      </h2>
      <Sentence>{c.says}</Sentence>
      <div className="halves even">
        <div>
          <Matrix
            c={c}
            onChoose={(theirs, o) => setSearch({ check: c.name, theirs: theirs || "none", ours: o || "none" })}
          />
          <p>
            <button type="button" className="plain" onClick={() => setSearch({ check: c.name, apart: "contradict" })}>
              Rows on which they contradict each other
            </button>
          </p>
          <Right judged={c.judged} ours={ours} name={c.name} />
        </div>
        <Words key={JSON.stringify(c.words)} list={list} c={c} />
      </div>
      {chosen && <Apart list={list} run={run} search={search} />}
    </section>
  );
}

/** Right says who was right how often, of the addresses that a message was sent to. */
function Right({
  judged,
  ours,
  name,
}: {
  judged: Schema<"OpinionJudged">;
  ours: Schema<"OpinionJudged">;
  name: string;
}) {
  const rows: [string, Schema<"OpinionJudged">][] = [
    [name, judged],
    ["Varnet", ours],
  ];
  const of = (j: Schema<"OpinionJudged">) => j.goodArrived + j.goodBounced + j.badArrived + j.badBounced;
  if (rows.every(([, j]) => of(j) === 0)) return <p className="quiet">{judged.says}</p>;
  return (
    <>
      <h3>Who was right, by messages really sent</h3>
      <table className="rows">
        <thead>
          <tr>
            <th>Check</th>
            <th className="number">Right</th>
            <th className="number">Called deliverable, bounced</th>
            <th className="number">Called undeliverable, arrived</th>
          </tr>
        </thead>
        <tbody>
          {rows.map(([check, j]) => (
            <tr key={check}>
              <td>
                <bdi>{check}</bdi>
              </td>
              <td className="number">
                {j.goodArrived + j.badBounced} of {of(j)}
              </td>
              <td className="number">{j.goodBounced}</td>
              <td className="number">{j.badArrived}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
