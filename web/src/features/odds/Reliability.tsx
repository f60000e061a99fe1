import type { Schema } from "../../api/client";
import { Scroll } from "../../parts/Scroll";
import { number } from "../../words";

type Tenth = Schema<"OddsTenth">;

const size = 440;
const left = 52;
const bottom = 44;
const top = 18;
const right = 22;
const x = (p: number) => left + p * (size - left - right);
const y = (p: number) => size - bottom - p * (size - top - bottom);

/** biggest is the radius of the tenth with most messages. */
const biggest = 20;

/** Reliability draws what became of messages over the odds that were stated: on the line they are honest. */
export function Reliability({ tenths, says }: { tenths: Tenth[]; says: string }) {
  const there = tenths.filter((t) => t.messages > 0);
  const most = Math.max(...there.map((t) => t.messages));
  return (
    <figure className="chart reliability">
      <svg viewBox={`0 0 ${size} ${size}`} role="img" aria-label={says}>
        {[0, 0.25, 0.5, 0.75, 1].map((p) => (
          <g key={p}>
            <line x1={x(0)} x2={x(1)} y1={y(p)} y2={y(p)} className="grid" />
            <text x={left - 8} y={y(p) + 4} textAnchor="end">
              {100 * p}
            </text>
            <text x={x(p)} y={size - bottom + 18} textAnchor="middle">
              {100 * p}
            </text>
          </g>
        ))}
        <path d={`M${x(0)} ${y(0)}L${x(1)} ${y(1)}`} className="honest" />
        {there.map((t) => {
          const stated = t.promised / t.messages;
          const arrived = t.arrived / t.messages;
          return (
            <g key={t.from}>
              <line x1={x(stated)} x2={x(stated)} y1={y(stated)} y2={y(arrived)} className="off" />
              <circle
                cx={x(stated)}
                cy={y(arrived)}
                r={Math.max(4, biggest * Math.sqrt(t.messages / most))}
                className="kept"
              >
                <title>
                  {number(t.messages)} messages with odds of {Math.round(100 * stated)} in 100 on average:{" "}
                  {Math.round(100 * arrived)} in 100 arrived
                </title>
              </circle>
            </g>
          );
        })}
        <text x={x(0.5)} y={size - 6} textAnchor="middle">
          odds that were stated, in 100
        </text>
        <text transform={`translate(14 ${y(0.5)}) rotate(-90)`} textAnchor="middle">
          arrived, in 100
        </text>
      </svg>
      <figcaption className="quiet">
        A disc is a tenth of the scale, as large as its messages are many. On the line, as many arrived as the odds had
        said.
      </figcaption>
    </figure>
  );
}

/** few is under how many messages a tenth tells nothing. */
const few = 20;

/** off is by how many points the odds of a tenth were off. */
const off = (t: Tenth) => (100 * Math.abs(t.promised - t.arrived)) / t.messages;

/** Tenths are the numbers of the picture. */
export function Tenths({ tenths }: { tenths: Tenth[] }) {
  return (
    <Scroll label="Odds that were stated and what became of the messages">
      <table className="rows">
        <thead>
          <tr>
            <th>Odds stated</th>
            <th className="number">Messages</th>
            <th className="number">Were to arrive</th>
            <th className="number">Arrived</th>
            <th className="number">Off by</th>
          </tr>
        </thead>
        <tbody>
          {tenths.map((t) => (
            <tr key={t.from} className={t.messages === 0 ? "quiet" : undefined}>
              <td>
                {Math.round(100 * t.from)} to {Math.round(100 * t.from) + 10} in 100
              </td>
              <td className="number">{number(t.messages)}</td>
              <td className="number">{t.messages > 0 && number(Math.round(t.promised))}</td>
              <td className="number">{t.messages > 0 && number(t.arrived)}</td>
              <td className="number">
                {t.messages > 0 && (t.messages < few ? "too few to tell" : `${off(t).toFixed(1)} points`)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}
