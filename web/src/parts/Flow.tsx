import { Link, useNavigate } from "react-router";
import type { Run } from "../api/client";
import { glyphs, number, share, tones } from "../words";
import { arriving, leaving, stages, type Band } from "./flow";

/** The drawing's own measures; it scales with the page. */
const width = 1200, height = 216, top = 12, full = 132, first = 90, step = 225, bend = 54, floor = height;

/** thick is a band's thickness: to scale, but never too thin to be seen. */
const thick = (addresses: number, run: Run) => (addresses === 0 ? 0 : Math.max(1.5, (addresses / Math.max(1, run.addresses)) * full));

/**
 * Flow is the picture of a run: the addresses stream from left to right through the stages; at each a band leaves, as
 * thick as the number of addresses it took; what reaches the end is deliverable or catch-all.
 */
export function Flow({ run }: { run: Run }) {
  const left = stages.map((s) => leaving(run, s));
  const ends = arriving(run);
  return (
    <figure className="flow">
      <Drawing run={run} left={left} ends={ends} />
      <div className="flow-labels">
        {stages.map((s, i) => <StageLabel key={s} run={run} stage={s} bands={left[i]!} />)}
        <EndLabel run={run} ends={ends} />
      </div>
    </figure>
  );
}

function Drawing({ run, left, ends }: { run: Run; left: Band[][]; ends: Band[] }) {
  const go = useNavigate();
  const shapes: { d: string; tone: string; key: string; to?: string }[] = [];
  // The stream is stacked from the top: what arrives, what is not concluded, then what leaves, the last stage's first.
  let y = top;
  for (const band of ends) {
    const t = thick(band.addresses, run);
    shapes.push({ key: band.finding, tone: tones[band.finding], to: `finding=${band.finding}`, d: `M0 ${y}H${width}V${y + t}H0Z` });
    y += t;
  }
  const open = thick(run.open, run);
  if (open > 0) shapes.push({ key: "open", tone: "open", d: `M0 ${y}H${width - 90}l24 ${open / 2}l-24 ${open / 2}H0Z` });
  y += open;
  for (let i = stages.length - 1; i >= 0; i--) {
    // The lowest band turns off first, so that none crosses another.
    let shift = left[i]!.reduce((sum, b) => sum + thick(b.addresses, run) + 3, 0);
    for (const band of left[i]!) {
      const t = thick(band.addresses, run);
      shift -= t + 3;
      const x = first + i * step + shift, out = x + bend;
      shapes.push({
        key: band.stage + band.finding,
        tone: tones[band.finding],
        to: `stage=${band.stage}&finding=${band.finding}`,
        d: `M0 ${y}H${x}C${x + bend * 0.7} ${y} ${out + t} ${y + bend * 0.4} ${out + t} ${Math.max(floor, y + t)}V${floor}H${out}` +
          `C${out} ${y + t + bend * 0.4} ${x + bend * 0.3} ${y + t} ${x} ${y + t}H0Z`,
      });
      y += t;
    }
  }
  const said = stages.map((s, i) => `${number(left[i]!.reduce((n, b) => n + b.addresses, 0))} leave at ${s}`).join(", ");
  return (
    <svg viewBox={`0 0 ${width} ${height}`} preserveAspectRatio="none" role="img"
      aria-label={`Of ${number(run.addresses)} addresses ${said}; ${ends.map((b) => `${number(b.addresses)} are ${b.finding}`).join(", ")}.`}>
      {stages.map((s, i) => <line key={s} className="stage-line" x1={first + i * step} x2={first + i * step} y1={0} y2={height} />)}
      {shapes.map((s) => (
        // The labels below are the same links for keyboards and readers.
        <path key={s.key} className={"band " + s.tone} d={s.d} onClick={s.to ? () => void go(`/runs/${run.id}/results?${s.to}`) : undefined} />
      ))}
    </svg>
  );
}

function StageLabel({ run, stage, bands }: { run: Run; stage: string; bands: Band[] }) {
  const causes = bands.flatMap((b) => b.causes).sort((a, b) => b.addresses - a.addresses);
  return (
    <section>
      <h3>{stage}</h3>
      {bands.map((b) => (
        <p key={b.finding}>
          <Link to={`/runs/${run.id}/results?stage=${stage}&finding=${b.finding}`} className={tones[b.finding]}>
            <span aria-hidden="true">{glyphs[tones[b.finding]]}</span> <strong>{number(b.addresses)}</strong> {b.finding}
          </Link>
        </p>
      ))}
      <ul>
        {causes.slice(0, 3).map((c) => (
          <li key={c.cause}><Link to={`/runs/${run.id}/results?cause=${c.cause}`}>{number(c.addresses)} {c.title.toLowerCase()}</Link></li>
        ))}
        {causes.length > 3 && <li>and {causes.length - 3} more {causes.length === 4 ? "cause" : "causes"}</li>}
      </ul>
      {bands.length === 0 && <p className="quiet">nothing left here</p>}
    </section>
  );
}

function EndLabel({ run, ends }: { run: Run; ends: Band[] }) {
  return (
    <section>
      <h3>at the end</h3>
      {ends.map((b) => (
        <p key={b.finding}>
          <Link to={`/runs/${run.id}/results?finding=${b.finding}`} className={tones[b.finding]}>
            <span aria-hidden="true">{glyphs[tones[b.finding]]}</span> <strong>{number(b.addresses)}</strong> {b.finding}
          </Link>
          <span className="quiet">{share(b.addresses, run.addresses, "addresses")}</span>
        </p>
      ))}
      {run.open > 0 && <p className="quiet"><strong>{number(run.open)}</strong> not concluded yet</p>}
    </section>
  );
}
