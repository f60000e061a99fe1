import type { Decision } from "../api/client";
import { glyphs } from "../words";

/** DecisionMark shows a decision by glyph, tone and word. */
export function DecisionMark({ decision }: { decision: Decision }) {
  return (
    <span className={`decision ${decision}`}>
      <span aria-hidden="true">{glyphs[decision]}</span> {decision}
    </span>
  );
}
