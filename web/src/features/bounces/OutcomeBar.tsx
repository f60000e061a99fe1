import { number } from "../../words";
import { type Counts, lettersOf, outcomes } from "./outcomes";

/** OutcomeBar draws what became of letters as parts of one bar, and says the same in words below. */
export function OutcomeBar({ counts }: { counts: Counts }) {
  const shown = outcomes.filter((o) => counts[o.key] > 0);
  if (lettersOf(counts) === 0) return null;
  return (
    <figure className="outcome">
      <div className="outcome-bar" aria-hidden="true">
        {shown.map((o) => (
          <span key={o.key} className={`outcome-${o.key}`} style={{ flexGrow: counts[o.key] }} />
        ))}
      </div>
      <figcaption>
        {shown.map((o) => (
          <span key={o.key}>
            <i className={`outcome-${o.key}`} aria-hidden="true" />
            {number(counts[o.key])} {o.what}
          </span>
        ))}
      </figcaption>
    </figure>
  );
}
