import type { Schema } from "../../api/client";
import { findings, number } from "../../words";

/** Matrix shows rows by what the other check found, a line each, and what Varnet found, a column each. */
export function Matrix({
  c,
  onChoose,
}: {
  c: Schema<"OpinionCheck">;
  onChoose: (theirs: string, ours: string) => void;
}) {
  const there = (side: "theirs" | "ours") =>
    c.matrix.some((m) => m[side] === "") ? [...findings, ""] : (findings as string[]);
  const most = Math.max(1, ...c.matrix.map((m) => m.rows));
  return (
    <div className="scroll">
      <table className="matrix">
        <caption className="quiet">
          Rows, by what <bdi>{c.name}</bdi> found (lines) and what Varnet found (columns)
        </caption>
        <thead>
          <tr>
            <td />
            {there("ours").map((ours) => (
              <th key={ours} scope="col">
                {ours || "nothing"}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {there("theirs").map((theirs) => (
            <tr key={theirs}>
              <th scope="row">{theirs || "nothing"}</th>
              {there("ours").map((ours) => {
                const rows = c.matrix.find((m) => m.theirs === theirs && m.ours === ours)?.rows ?? 0;
                return (
                  <td key={ours} className={theirs === ours && theirs ? "same" : undefined}>
                    {rows > 0 && (
                      <button
                        type="button"
                        className="plain"
                        style={{ "--part": `${Math.round(70 * Math.sqrt(rows / most))}%` } as React.CSSProperties}
                        aria-label={`${number(rows)} rows: ${theirs || "nothing"} and ${ours || "nothing"}`}
                        onClick={() => onChoose(theirs, ours)}
                      >
                        {number(rows)}
                      </button>
                    )}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
