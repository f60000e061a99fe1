import type { Run } from "../api/client";
import { findings, number, tones } from "../words";

/** MiniFlow is the flow in one line: what became of the addresses, to scale. */
export function MiniFlow({ run }: { run: Run }) {
  const sums = findings.map((f) => ({
    f,
    n: run.causes.filter((c) => c.finding === f).reduce((sum, c) => sum + c.addresses, 0),
  }));
  const said = sums.map((s) => `${number(s.n)} ${s.f}`).join(", ");
  let x = 0;
  return (
    <svg
      className="mini-flow"
      viewBox="0 0 200 12"
      preserveAspectRatio="none"
      role="img"
      aria-label={`Of ${number(run.addresses)} addresses: ${said}`}
    >
      <rect className="band open" x={0} y={0} width={200} height={12} />
      {sums.map((s) => {
        const w = (200 * s.n) / Math.max(1, run.addresses),
          at = x;
        x += w;
        return (
          <rect
            key={s.f}
            className={`band ${tones[s.f]}${s.f === "undecided" ? " fine" : ""}`}
            x={at}
            y={0}
            width={Math.max(0, w - 1)}
            height={12}
          />
        );
      })}
    </svg>
  );
}
