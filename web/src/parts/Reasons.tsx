import { Link } from "react-router";
import type { Schema } from "../api/client";
import { number } from "../words";
import { DecisionMark } from "./DecisionMark";

/** Reasons are rows by decision and reason; overrides lead to where they are, if it is told. */
export function Reasons({ counts, overrides }: { counts: Schema<"Count">[]; overrides?: string }) {
  return (
    <table className="rows narrow">
      <thead>
        <tr>
          <th>Decision</th>
          <th>Because they are</th>
          <th className="number">Rows</th>
        </tr>
      </thead>
      <tbody>
        {counts.map((c) => (
          <tr key={c.decision + c.reason}>
            <td>
              <DecisionMark decision={c.decision} />
            </td>
            <td>
              {overrides && c.code === "override" ? (
                <Link to={`${overrides}&decision=${c.decision}`}>{c.reason}</Link>
              ) : (
                c.reason
              )}
            </td>
            <td className="number">{number(c.rows)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
