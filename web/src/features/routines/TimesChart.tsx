import type { Schema } from "../../api/client";
import { Scroll } from "../../parts/Scroll";
import { moment, number, share } from "../../words";

const width = 720;
const height = 180;
const left = 44;
const bottom = 26;
const top = 10;

/** TimesChart draws the kept share and the age of results over the times of a routine; its numbers stand in the table below it. */
export function TimesChart({ of: times }: { of: Schema<"RoutineTime">[] }) {
  const done = times.filter((t) => t.state === "done" && !t.dry && t.record.rows > 0).reverse();
  if (done.length < 2) return null;
  const step = (width - left - 60) / (done.length - 1);
  const x = (i: number) => left + i * step;
  const y = (part: number) => top + (1 - part) * (height - top - bottom);
  const oldest = Math.max(1, ...done.map((t) => t.record.ageDays));
  const kept = done.map((t) => t.record.kept / t.record.rows);
  const age = done.map((t) => t.record.ageDays / oldest);
  const line = (parts: number[]) =>
    parts.map((p, i) => `${i === 0 ? "M" : "L"}${x(i).toFixed(1)} ${y(p).toFixed(1)}`).join("");
  const last = done[done.length - 1]!;
  const says = `Over ${done.length} times: kept ${share(done[0]!.record.kept, done[0]!.record.rows, "rows")} at first and ${share(last.record.kept, last.record.rows, "rows")} at last; its results are ${last.record.ageDays.toFixed(1)} days old on average.`;
  return (
    <figure className="chart">
      <figcaption>{says}</figcaption>
      <Scroll label="Kept rows and age of the results">
        <svg viewBox={`0 0 ${width} ${height}`} role="img" aria-label={says}>
          {[0, 0.5, 1].map((part) => (
            <g key={part}>
              <line x1={left} x2={width - 60} y1={y(part)} y2={y(part)} className="grid" />
              <text x={left - 6} y={y(part) + 4} textAnchor="end">
                {part * 100} %
              </text>
              <text x={width - 54} y={y(part) + 4}>
                {number(Math.round(part * oldest * 10) / 10)} d
              </text>
            </g>
          ))}
          <path d={line(kept)} className="kept" />
          <path d={line(age)} className="age" />
          {kept.map((p, i) => (
            <circle key={done[i]!.number} cx={x(i)} cy={y(p)} r={4} className="kept">
              <title>
                {moment(done[i]!.dueAt)}: {share(done[i]!.record.kept, done[i]!.record.rows, "rows")} kept
              </title>
            </circle>
          ))}
          {age.map((p, i) => (
            <rect key={done[i]!.number} x={x(i) - 3.5} y={y(p) - 3.5} width={7} height={7} className="age">
              <title>
                {moment(done[i]!.dueAt)}: results {done[i]!.record.ageDays.toFixed(1)} days old on average
              </title>
            </rect>
          ))}
          <text x={left} y={height - 6}>
            {moment(done[0]!.dueAt)}
          </text>
          <text x={width - 60} y={height - 6} textAnchor="end">
            {moment(last.dueAt)}
          </text>
        </svg>
      </Scroll>
      <p className="quiet">
        <span className="key-kept">● kept rows, of all rows</span>{" "}
        <span className="key-age">■ age of the results, in days</span>
      </p>
    </figure>
  );
}
