import type { Schema } from "../api/client";

type Check = Schema<"Check">;

/** marks and tones show how a check came out; "" stands for none made. */
export const marks = { good: "●", reservation: "◐", bad: "○", "": "·" } as const;
export const tones = { good: "keep", reservation: "hold", bad: "drop", "": "quiet" } as const;

/** Faults are the checks that came out badly, each with what to do. */
export function Faults({ of: checks }: { of: Check[] }) {
  return checks
    .filter((c) => c.grade !== "good")
    .map((c) => (
      <p key={c.says}>
        <span className={tones[c.grade]} aria-hidden="true">
          {marks[c.grade]}
        </span>{" "}
        {c.says} <strong>{c.do}</strong>
      </p>
    ));
}

/** Merits are the checks that came out well. */
export function Merits({ of: checks }: { of: Check[] }) {
  return (
    <p className="quiet">
      {checks
        .filter((c) => c.grade === "good")
        .map((c) => c.says)
        .join(" ")}
    </p>
  );
}
