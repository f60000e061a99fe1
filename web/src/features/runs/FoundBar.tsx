import type { Schema } from "../../api/client";
import { number, tones } from "../../words";

/** FoundBar is a bar as long as the place is large beside the largest, divided by what was found there. */
export function FoundBar({
  findings,
  addresses,
  most,
}: {
  findings: Schema<"FindingAddresses">[];
  addresses: number;
  most: number;
}) {
  return (
    <>
      <span className="domain-bar" style={{ width: `${Math.max(2, (100 * addresses) / most)}%` }} aria-hidden="true">
        {findings.map((f) => (
          <span
            key={f.finding}
            className={`${tones[f.finding]} ${f.finding === "undecided" ? "fine" : ""}`}
            style={{ flexGrow: f.addresses }}
          />
        ))}
      </span>
      <span className="quiet">
        {findings.map((f) => `${number(f.addresses)} ${f.finding}`).join(", ") || "nothing yet"}
      </span>
    </>
  );
}
