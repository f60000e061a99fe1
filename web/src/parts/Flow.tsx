import { Link, useNavigate } from "react-router";
import type { Run } from "../api/client";
import { glyphs } from "../words";

type Layout = NonNullable<Run["flow"]>;
type Chosen = { stage?: string; finding?: string; cause?: string };

/** chosen is the address of the results that something in the flow stands for. */
function chosen(run: Run, { stage, finding, cause }: Chosen): string | undefined {
  const filter = new URLSearchParams(
    Object.entries({ stage, finding, cause }).filter((e): e is [string, string] => !!e[1]),
  );
  return filter.size > 0 ? `/runs/${run.id}/results?${filter}` : undefined;
}

/**
 * Flow draws the picture of a run as the service laid it out: the addresses stream from left to right through the stages; at
 * each a band leaves, as thick as the number of addresses it took; what reaches the end is deliverable or catch-all.
 */
export function Flow({ run }: { run: Run }) {
  if (!run.flow) return null;
  return (
    <figure className="flow">
      <h2 className="unseen">What became of the addresses, stage by stage</h2>
      <Drawing run={run} flow={run.flow} />
      <div className="flow-labels">
        {run.flow.columns.map((c) => (
          <Column key={c.name} run={run} column={c} />
        ))}
      </div>
    </figure>
  );
}

function Drawing({ run, flow }: { run: Run; flow: Layout }) {
  const go = useNavigate();
  return (
    <svg viewBox={`0 0 ${flow.width} ${flow.height}`} preserveAspectRatio="none" role="img" aria-label={flow.says}>
      {flow.columns.slice(0, -1).map((c) => (
        <line key={c.name} className="stage-line" x1={c.x} x2={c.x} y1={0} y2={flow.height} />
      ))}
      {flow.shapes.map((s) => {
        const to = chosen(run, s);
        return (
          // biome-ignore lint/a11y/noStaticElementInteractions: the labels below are the same links for keyboards and readers
          <path
            key={`${s.stage}${s.finding}`}
            className={`band ${s.tone ?? "open"}`}
            d={s.path}
            onClick={to ? () => void go(to) : undefined}
          />
        );
      })}
    </svg>
  );
}

function Column({ run, column }: { run: Run; column: Layout["columns"][number] }) {
  return (
    <section>
      <h3>{column.name}</h3>
      <ul>
        {column.lines.map((l, i) => {
          const to = chosen(run, l),
            text = l.tone ? (
              <>
                <span aria-hidden="true">{glyphs[l.tone]}</span> {l.text}
              </>
            ) : (
              l.text
            );
          return (
            <li key={i} className={l.tone ? `total ${l.tone}` : "quiet"}>
              {to ? <Link to={to}>{text}</Link> : text}
            </li>
          );
        })}
      </ul>
    </section>
  );
}
