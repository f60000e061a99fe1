import { Scroll } from "../../parts/Scroll";
import { moment, plural } from "../../words";
import type { SendingSide } from "./queries";

/** Refusals are the operators that refused us lately, with their words. */
export function Refusals({ list }: { list: SendingSide["refusals"] }) {
  return (
    <section aria-label="Who refused us">
      <h2>Who refused us in the last 24 hours</h2>
      {list.length === 0 ? (
        <p>Nobody.</p>
      ) : (
        <p className="quiet">
          {plural(list.length, "operator")}, the latest first. This says nothing about the addresses there.
        </p>
      )}
      {list.length > 0 && (
        <Scroll label="Refusals">
          <table className="rows">
            <thead>
              <tr>
                <th>Operator</th>
                <th>Route</th>
                <th>When</th>
                <th>In its words</th>
              </tr>
            </thead>
            <tbody>
              {list.map((r) => (
                <tr key={r.operator + r.route}>
                  <td>{r.operator}</td>
                  <td className="part-name">{r.route}</td>
                  <td>{moment(r.at)}</td>
                  <td>
                    <bdi>{r.words}</bdi>
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
