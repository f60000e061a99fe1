import { Button } from "antd";
import { Link } from "react-router";
import type { Schema } from "../../api/client";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { moment, number } from "../../words";
import { useTimes } from "./queries";
import { stateWords } from "./Routines";

type Time = Schema<"RoutineTime">;

const reasons: Record<Time["why"], string> = { calendar: "", change: "after a change", person: "run by hand" };

/** Times shows the times of a routine side by side, the newest first. */
export function Times({ routine }: { routine: number }) {
  const times = useTimes(routine);
  if (times.error) return <Trouble error={times.error} again={() => void times.refetch()} />;
  if (!times.data) return <Wait for="its times" />;
  if (times.data.length === 0) return <p>It was not due yet. A dry run shows what it would do.</p>;
  return (
    <>
      <Scroll label="Times of the routine">
        <table className="rows">
          <thead>
            <tr>
              <th>Time</th>
              <th className="number">Rows</th>
              <th className="number">New</th>
              <th className="number">Gone</th>
              <th className="number">Asked</th>
              <th className="number">Reused</th>
              <th className="number">Kept</th>
              <th>What became of it</th>
            </tr>
          </thead>
          <tbody>
            {times.data.map((t) => (
              <Row key={t.number} of={t} />
            ))}
          </tbody>
        </table>
      </Scroll>
      {times.hasNextPage && (
        <Button loading={times.isFetchingNextPage} onClick={() => void times.fetchNextPage()}>
          Show older ones
        </Button>
      )}
    </>
  );
}

function Row({ of: t }: { of: Time }) {
  const r = t.record;
  const counted = r.rows > 0;
  return (
    <tr>
      <td>
        {moment(t.dueAt)}
        <small className="quiet">
          {[t.dry ? "dry run" : stateWords[t.state], reasons[t.why]].filter(Boolean).join(", ")}
        </small>
      </td>
      {[r.rows, r.added, r.gone, r.asked, r.reused, r.kept].map((n, i) => (
        <td key={i} className="number">
          {counted && !(t.dry && i === 5) ? number(n) : ""}
        </td>
      ))}
      <td>
        <bdi>{t.says}</bdi>
        <span className="row-acts">
          {t.runId && <Link to={`/runs/${t.runId}`}>See the run</Link>}
          {t.runId && r.before && r.before !== t.runId && (
            <Link to={`/runs/${t.runId}/compare/${r.before}`}>Compare</Link>
          )}
        </span>
      </td>
    </tr>
  );
}
