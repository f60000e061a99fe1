import type { Schema } from "../../api/client";
import { useWords } from "../../api/hooks";
import { Scroll } from "../../parts/Scroll";
import { number, share } from "../../words";
import { lettersOf } from "./outcomes";

/** FoundTable holds what had been found of the addresses against what became of the letters to them. */
export function FoundTable({ found }: { found: Schema<"OutcomeFound">[] }) {
  const words = useWords();
  if (found.length === 0) return null;
  return (
    <Scroll label="What had been found, and what became of it">
      <table className="rows">
        <thead>
          <tr>
            <th>Found before</th>
            <th className="number">Letters</th>
            <th className="number">Bounced for good</th>
            <th className="number">May pass</th>
            <th className="number">Complained</th>
            <th className="number">Odds stated</th>
            <th>Did not come back</th>
          </tr>
        </thead>
        <tbody>
          {found.map((f) => {
            const o = f.outcomes;
            const known = lettersOf(o) - o.open;
            return (
              <tr key={`${f.finding} ${f.cause}`}>
                <td>
                  {f.finding || "nothing"}
                  <small className="quiet">
                    {words.data?.causes.find((c) => c.code === f.cause)?.title ?? f.cause}
                  </small>
                </td>
                <td className="number">{number(f.letters)}</td>
                <td className="number">{number(o.bounced)}</td>
                <td className="number">{number(o.passing + o.delayed)}</td>
                <td className="number">{number(o.complained)}</td>
                <td className="number">{f.finding && `${Math.round(100 * f.odds)} in 100`}</td>
                <td>{known === 0 ? "not known yet" : share(o.noBounce + o.complained, known, "letters")}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </Scroll>
  );
}
