import { useEffect } from "react";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { OutboundState } from "../../parts/OutboundState";
import { number, size } from "../../words";
import { useReadiness } from "../outbound/queries";
import { Failing } from "./Failing";
import { useHealth } from "./queries";
import { Workers } from "./Workers";

/** Health shows what works, what waits, and whether the way out is good. */
export function Health() {
  const health = useHealth();
  const readiness = useReadiness();
  useEffect(() => {
    document.title = "Workers and health · Varnet";
    return () => {
      document.title = "Varnet";
    };
  }, []);
  if (health.error) return <Trouble error={health.error} again={() => void health.refetch()} />;
  if (!health.data) return <Wait for="the service's health" />;
  const h = health.data;
  return (
    <>
      <h1>Workers and health</h1>
      <Sentence>{h.sentence}</Sentence>
      {readiness.data && (
        <p>
          <OutboundState readiness={readiness.data} />
        </p>
      )}
      {h.failing.length > 0 && <Failing failing={h.failing} />}
      <section>
        <h2>What waits, over all runs</h2>
        <table className="rows narrow">
          <thead>
            <tr>
              <th>Kind</th>
              <th>What that means</th>
              <th className="number">Parcels</th>
              <th className="number">Addresses</th>
            </tr>
          </thead>
          <tbody>
            {h.queue.map((q) => (
              <tr key={q.kind}>
                <td>{q.kind}</td>
                <td>{q.says}</td>
                <td className="number">{number(q.parcels)}</td>
                <td className="number">{number(q.addresses)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      <Workers />
      <p className="after">
        PostgreSQL {h.database}; the database takes {size(h.databaseBytes)}. The figures for monitoring are at{" "}
        <code>/metrics</code>.
      </p>
    </>
  );
}
