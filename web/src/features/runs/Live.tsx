import { Alert } from "antd";
import type { Run } from "../../api/client";
import { plural, share, time } from "../../words";

/** Live says how a run that is on its way gets on, and what it waits for. */
export function Live({ run }: { run: Run }) {
  return (
    <>
      <dl className="live">
        <div>
          <dt>Concluded</dt>
          <dd>{share(run.done, run.addresses, "addresses")}</dd>
        </div>
        <div>
          <dt>In the last minute</dt>
          <dd>{plural(run.perMinute, "address", "addresses")}</dd>
        </div>
        {run.again > 0 && (
          <div>
            <dt>Asked again</dt>
            <dd>{plural(run.again, "address", "addresses")}; their results stand until then</dd>
          </div>
        )}
        {run.postponed > 0 && (
          <div>
            <dt>Put off by their hosts</dt>
            <dd>
              {plural(run.postponed, "address", "addresses")}
              {run.nextRound && `, until ${time(run.nextRound)}`}
            </dd>
          </div>
        )}
        <Expected run={run} />
      </dl>
      <Waits run={run} />
    </>
  );
}

function Expected({ run }: { run: Run }) {
  const e = run.expectedEnd;
  if (!e) return null;
  const sure = e.from === e.to;
  return (
    <div>
      <dt>{sure ? "Next round" : "Expected end"}</dt>
      <dd>
        about {time(e.at)}
        {!sure && (
          <span className="quiet">
            , between {time(e.from)} and {time(e.to)}
          </span>
        )}
      </dd>
    </div>
  );
}

/** Waits says what the run waits for; what fails stands open. */
function Waits({ run }: { run: Run }) {
  const failing = run.waits.filter((w) => w.failing);
  const others = run.waits.filter((w) => !w.failing);
  return (
    <>
      {failing.map((w) => (
        <Alert key={keyOf(w)} type="warning" role="status" title={w.sentence} className="notice" />
      ))}
      {others.length > 0 && (
        <details className="waits">
          <summary>Waiting for</summary>
          <ul>
            {others.map((w) => (
              <li key={keyOf(w)}>{w.sentence}</li>
            ))}
          </ul>
        </details>
      )}
    </>
  );
}

/** keyOf is what stays of a wait while its numbers change. */
const keyOf = (w: Run["waits"][number]) => w.operator + w.sentence.replaceAll(/[\d,:]+/g, "");
