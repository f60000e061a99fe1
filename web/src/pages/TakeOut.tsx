import { useQuery } from "@tanstack/react-query";
import { Button, Segmented } from "antd";
import { Link, useParams, useSearchParams } from "react-router";
import { api, told, type Decision } from "../api/client";
import { useRun } from "../api/hooks";
import { DecisionMark } from "../parts/DecisionMark";
import { Sentence, Trouble, Wait } from "../parts/Notice";
import { glyphs, number, plural } from "../words";

const decisions: Decision[] = ["keep", "hold", "drop"];

export function TakeOutPage() {
  const id = Number(useParams().id);
  const run = useRun(id);
  const [search, setSearch] = useSearchParams();
  const decision = decisions.find((d) => d === search.get("decision")) ?? "keep";
  const out = useQuery({
    queryKey: ["take-out", id, decision, run.data?.done],
    queryFn: async () => told(await api.GET("/runs/{id}/take-out", { params: { path: { id }, query: { decision } } })),
  });
  const error = run.error ?? out.error;
  if (error) return <Trouble error={error} again={() => void out.refetch()} />;
  if (!run.data || !out.data) return <Wait for="the counts" />;
  return (
    <>
      <p className="path"><Link to="/lists">Lists</Link> → <Link to={`/lists/${run.data.listId}`}><bdi>{run.data.listName}</bdi></Link> → <Link to={`/runs/${id}`}>Run {id}</Link> →</p>
      <h1>Take out</h1>
      <Segmented aria-label="Which rows" value={decision} onChange={(d) => setSearch({ decision: d })}
        options={decisions.map((d) => ({ value: d, label: `${glyphs[d]} ${d}` }))} />
      <Sentence>{out.data.sentence}</Sentence>
      {run.data.open > 0 && <p>The run is not at its end: {plural(run.data.open, "address is", "addresses are")} not concluded yet and count as held.</p>}
      <p>The file has the same columns, in the same order and in the same writing as the one you brought; only the other rows are missing.</p>
      <Button type="primary" size="large" href={`/api/v1/runs/${id}/file?decision=${decision}`} download={out.data.fileName} disabled={out.data.rows === 0}>
        Write {plural(out.data.rows, "row")} to a file
      </Button>
      <h2>All {number(run.data.rows)} rows</h2>
      <table className="rows narrow">
        <thead><tr><th>Decision</th><th>Because they are</th><th className="number">Rows</th></tr></thead>
        <tbody>{out.data.counts.map((c) => <tr key={c.decision + c.reason}><td><DecisionMark decision={c.decision as Decision} /></td><td>{c.reason}</td><td className="number">{number(c.rows)}</td></tr>)}</tbody>
      </table>
    </>
  );
}
