import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, items, told } from "../../api/client";
import { Act } from "../../parts/Act";
import { ActsHead } from "../../parts/ActsHead";
import { Trouble } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { number } from "../../words";

/** routesOf says how many sessions went by each route. */
const routesOf = (routes: Record<string, number>) =>
  Object.entries(routes)
    .map(([name, n]) => `${name} ${number(n)}`)
    .join(", ") || "none yet";

/** Workers shows the processes that work on runs, and brings one to its end. */
export function Workers() {
  const client = useQueryClient();
  const workers = useQuery({
    queryKey: ["workers"],
    queryFn: async () => items(await api.GET("/workers")),
    refetchInterval: 5000,
  });
  const drain = useMutation({
    mutationFn: async (id: string) => told(await api.POST("/workers/{id}/drain", { params: { path: { id } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["workers"] }),
  });
  return (
    <section>
      <h2>Workers</h2>
      <p>
        Processes that ask the mail hosts. One without a heartbeat for 12 seconds is considered lost, and others take up
        its work.
      </p>
      {(workers.error ?? drain.error) && <Trouble error={(workers.error ?? drain.error)!} />}
      {workers.data && (
        <Scroll label="Workers">
          <table className="rows">
            <thead>
              <tr>
                <th>Worker</th>
                <th>Version</th>
                <th>Serves the console</th>
                <th>Location</th>
                <th className="number">Lanes at work</th>
                <th>Sessions by route</th>
                <th>Begun</th>
                <th>Last heartbeat</th>
                <ActsHead />
              </tr>
            </thead>
            <tbody>
              {workers.data.map((w) => (
                <tr key={w.id}>
                  <td>{w.id}</td>
                  <td>{w.version}</td>
                  <td>{w.serves ? "yes" : "no"}</td>
                  <td>{w.location ?? "the service’s"}</td>
                  <td className="number">
                    {number(w.parcels)} of {number(w.lanes)}
                  </td>
                  <td>{routesOf(w.routes)}</td>
                  <td>
                    <When at={w.startedAt} />
                  </td>
                  <td>
                    <When at={w.seenAt} />
                  </td>
                  <td>
                    {w.draining
                      ? "stopping"
                      : !w.serves && (
                          <Act of={w.id} onClick={() => drain.mutate(w.id)}>
                            Stop when its work is done
                          </Act>
                        )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
    </section>
  );
}
