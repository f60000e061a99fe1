import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, items, type List } from "../../api/client";
import { ActsHead } from "../../parts/ActsHead";
import { MiniFlow } from "../../parts/MiniFlow";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { number, share } from "../../words";

/** Runs are those that a list has had, each compared with the one before. */
export function Runs({ list }: { list: List }) {
  const runs = useQuery({
    queryKey: ["runs", list.id, list.lastRun?.id],
    queryFn: async () => items(await api.GET("/runs", { params: { query: { list: list.id, limit: 20 } } })),
  });
  if (!runs.data || runs.data.length === 0) return null;
  return (
    <section>
      <h2>Its runs</h2>
      <Scroll label="Runs">
        <table className="rows">
          <thead>
            <tr>
              <th>Run</th>
              <th>Begun</th>
              <th>What was found</th>
              <th>Kept</th>
              <ActsHead />
            </tr>
          </thead>
          <tbody>
            {runs.data.map((r, i) => (
              <tr key={r.id}>
                <td>
                  <Link to={`/runs/${r.id}`}>Run {r.id}</Link> <span className="quiet">{r.state}</span>
                </td>
                <td>
                  <When at={r.beginAt ?? r.createdAt} />
                </td>
                <td>
                  <MiniFlow run={r} />
                </td>
                <td>
                  {number(r.kept)} <span className="quiet">{share(r.kept, r.rows, "rows")}</span>
                </td>
                <td>
                  {runs.data[i + 1] && (
                    <Link to={`/runs/${r.id}/compare/${runs.data[i + 1]!.id}`}>
                      What changed since run {runs.data[i + 1]!.id}
                    </Link>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </section>
  );
}
