import { Link, useParams, useSearchParams } from "react-router";
import { useRun } from "../../api/hooks";
import { EvidenceDrawer } from "../../parts/EvidenceDrawer";
import { Trouble, Wait } from "../../parts/Notice";
import { RunPath } from "../../parts/RunPath";
import { type Change, Filters } from "./Filters";
import { filterOf } from "./filter";
import { Rows } from "./Rows";

/** Results shows a run's results; which of them, and whose evidence is open, stands in the page's address. */
export function Results() {
  const id = Number(useParams().id);
  const run = useRun(id);
  const [search, setSearch] = useSearchParams();
  const filter = filterOf(search);
  const change: Change = (values) =>
    setSearch(
      (old) => {
        const next = new URLSearchParams(old);
        for (const [name, value] of Object.entries(values)) value ? next.set(name, value) : next.delete(name);
        return next;
      },
      { replace: "address" in values },
    );
  const open = search.get("address");
  if (run.error) return <Trouble error={run.error} again={() => void run.refetch()} />;
  if (!run.data) return <Wait for="the run" />;
  const out = new URLSearchParams(Object.entries({ decision: "all", ...filter }).map(([k, v]) => [k, String(v)]));
  return (
    <>
      <RunPath run={run.data} />
      <div className="title">
        <h1>Results</h1>
        {!filter.overridden && <Link to={`/runs/${id}/export?${out}`}>Export these rows</Link>}
      </div>
      <Filters run={run.data} filter={filter} change={change} />
      <Rows
        key={JSON.stringify(filter)}
        run={run.data}
        filter={filter}
        onOpen={(a) => change({ address: String(a) })}
      />
      <EvidenceDrawer
        run={id}
        ordinal={open === null ? undefined : Number(open)}
        onClose={() => change({ address: undefined })}
      />
    </>
  );
}
