import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Run, told } from "../../api/client";
import { share } from "../../words";

/** from is from which share of old results on it is said what to do about them. */
const from = 0.2;

/** Ages says how old the results of the list are, and what to do about old ones. */
export function Ages({ run }: { run: Run }) {
  const ages = useQuery({
    queryKey: ["ages", run.id, run.done, run.again],
    queryFn: async () => told(await api.GET("/runs/{id}/ages", { params: { path: { id: run.id } } })),
  });
  const a = ages.data;
  if (!a || a.results === 0) return null;
  const old = a.ages.filter((g) => !g.underDays || g.underDays > 30).reduce((n, g) => n + g.results, 0);
  return (
    <div className="ages-of">
      <p>{a.sentence}</p>
      <div className="age-bar" aria-hidden="true">
        {a.ages.map((g, i) => (
          <span key={g.underDays ?? "older"} className={`age-${i}`} style={{ flexGrow: g.results }} />
        ))}
      </div>
      {old > from * a.results && (
        <p>
          {share(old, a.results, "results")} are older than 30 days. A run that reuses results from the last 30 days
          asks about these alone; <Link to="/routines/new">a routine</Link> does so on a schedule.
        </p>
      )}
    </div>
  );
}
