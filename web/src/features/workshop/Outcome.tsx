import type { Schema } from "../../api/client";
import { number, plural } from "../../words";

/** shownParts is how many lists of a split are shown before the others are counted. */
const shownParts = 12;

/** Outcome says what would be made: what came of each step, the first rows, where each column comes from. */
export function Outcome({ job: j, stale }: { job: Schema<"WorkshopJob">; stale: boolean }) {
  return (
    <section className={stale ? "stale" : undefined} aria-busy={stale}>
      {j.steps.length > 1 && (
        <ol className="workshop-counts">
          {j.steps.map((s, i) => (
            <li key={i}>
              <strong>{number(s.rows)}</strong> of {plural(s.before, "row")}: {s.says}
            </li>
          ))}
        </ol>
      )}
      {j.parts.length > 0 && (
        <ul className="workshop-counts">
          {j.parts.slice(0, shownParts).map((p) => (
            <li key={p.value}>
              <bdi>{p.value || "without a value"}</bdi>: {plural(p.rows, "row")}
            </li>
          ))}
          {j.parts.length > shownParts && <li>and {plural(j.parts.length - shownParts, "list")} more</li>}
        </ul>
      )}
      {j.first.length > 0 && (
        <div className="scroll">
          <table className="rows preview">
            <caption className="unseen">The first rows</caption>
            <thead>
              <tr>
                {j.columns.map((c, i) => (
                  <th key={i}>
                    <bdi>{c}</bdi>
                    {j.from[i] && <small>{j.from[i].join(", ")}</small>}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {j.first.map((row, n) => (
                <tr key={n}>
                  {j.columns.map((_, i) => (
                    <td key={i}>
                      <bdi>{row[i]}</bdi>
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
