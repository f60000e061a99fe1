import type { Schema } from "../../api/client";
import { Scroll } from "../../parts/Scroll";
import { number, plural } from "../../words";

const width = 560;
const height = 240;
const left = 56;
const bottom = 28;
const top = 12;

/** Days draws the checks charged each day as columns, with days on which none were. */
export function Days({ of: u, days }: { of: Schema<"Usage">; days: number }) {
  const all = everyDay(u);
  const by = new Map(u.items.map((i) => [i.label, i.checks]));
  const most = Math.max(...u.items.map((i) => i.checks), 1);
  const step = (width - left) / all.length;
  const y = (n: number) => height - bottom - (n / most) * (height - top - bottom);
  return (
    <figure className="chart">
      <Scroll label="Checks charged each day">
        <svg
          viewBox={`0 0 ${width} ${height}`}
          role="img"
          aria-label={`Checks charged each day: ${plural(u.sum, "check")} in ${days} days`}
        >
          {[0, 0.5, 1].map((part) => (
            <g key={part}>
              <line x1={left} x2={width} y1={y(part * most)} y2={y(part * most)} className="grid" />
              <text x={left - 8} y={y(part * most) + 4} textAnchor="end">
                {number(Math.round(part * most))}
              </text>
            </g>
          ))}
          {all.map((day, i) => {
            const n = by.get(day) ?? 0;
            return (
              n > 0 && (
                <rect
                  key={day}
                  x={left + i * step + step * 0.12}
                  width={Math.max(1, step * 0.76)}
                  y={y(n)}
                  height={height - bottom - y(n)}
                  className="used"
                >
                  <title>
                    {day}: {plural(n, "check")}
                  </title>
                </rect>
              )
            );
          })}
          <text x={left} y={height - 8}>
            {all[0]}
          </text>
          <text x={width} y={height - 8} textAnchor="end">
            {all[all.length - 1]}
          </text>
        </svg>
      </Scroll>
      <figcaption className="quiet">Checks charged each day.</figcaption>
    </figure>
  );
}

/** everyDay returns the days of the usage, as the service names them. */
function everyDay(u: Schema<"Usage">): string[] {
  const days: string[] = [];
  const end = new Date(u.until);
  for (const at = new Date(u.from); at <= end; at.setDate(at.getDate() + 1))
    days.push(
      `${at.getFullYear()}-${String(at.getMonth() + 1).padStart(2, "0")}-${String(at.getDate()).padStart(2, "0")}`,
    );
  return days;
}
