import type { components } from "../../api/contract.gen";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { number } from "../../words";

/** Failing shows the background work that has failed each time for a while. */
export function Failing({ failing }: { failing: components["schemas"]["Failing"][] }) {
  return (
    <section>
      <h2>What keeps failing</h2>
      <p>
        Each is retried every few seconds, and goes on by itself once the cause is gone. Until then, a run that it works
        on stands still.
      </p>
      <Scroll label="What keeps failing">
        <table className="rows">
          <thead>
            <tr>
              <th>Work</th>
              <th>At</th>
              <th className="number">Jobs</th>
              <th>Since</th>
              <th className="number">Attempts</th>
              <th>Last error</th>
            </tr>
          </thead>
          <tbody>
            {failing.map((f) => (
              <tr key={f.kind}>
                <td>{f.does}</td>
                <td>{f.at}</td>
                <td className="number">{number(f.jobs)}</td>
                <td>
                  <When at={f.since} />
                </td>
                <td className="number">{number(f.attempts)}</td>
                <td>{f.said}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </section>
  );
}
