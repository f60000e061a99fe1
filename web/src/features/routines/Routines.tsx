import { Button } from "antd";
import { Link } from "react-router";
import type { Schema } from "../../api/client";
import { For } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { moment, number } from "../../words";
import { useRoutines } from "./queries";

/** Routines shows the standing orders of the workspace. */
export function Routines() {
  const routines = useRoutines();
  return (
    <>
      <div className="title">
        <h1>Routines</h1>
        <For scope="run">
          <Link to="/routines/new">
            <Button type="primary">Make a routine</Button>
          </Link>
        </For>
      </div>
      {routines.error && <Trouble error={routines.error} again={() => void routines.refetch()} />}
      {!routines.data && !routines.error && <Wait for="the routines" />}
      {routines.data?.length === 0 && (
        <p>
          There is no routine yet. A routine keeps a list clean by itself: every night, say, it reads the newest file of
          your members, asks about those who are new or whose result is stale, writes the kept rows and tells you what
          changed.
        </p>
      )}
      {routines.data && routines.data.length > 0 && (
        <Scroll label="Routines">
          <table className="rows">
            <thead>
              <tr>
                <th>Routine</th>
                <th>Next</th>
                <th>Last time</th>
                <th className="number">Kept</th>
              </tr>
            </thead>
            <tbody>
              {routines.data.map((r) => (
                <tr key={r.id}>
                  <td>
                    <Link to={`/routines/${r.id}`} className="name">
                      <bdi>{r.name}</bdi>
                    </Link>
                    <small className="quiet">{r.due}</small>
                  </td>
                  <td>{r.paused ? "paused" : r.nextAt ? moment(r.nextAt) : "after a change"}</td>
                  <td>{r.last ? <Last of={r.last} /> : "not yet"}</td>
                  <td className="number">
                    {r.last?.state === "done" && !r.last.dry ? number(r.last.record.kept) : ""}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
    </>
  );
}

function Last({ of: t }: { of: Schema<"RoutineTime"> }) {
  return (
    <>
      {stateWords[t.state]} <When at={t.endedAt ?? t.begunAt} />
    </>
  );
}

/** stateWords say where a time stands. */
export const stateWords: Record<Schema<"RoutineTime">["state"], string> = {
  reading: "reads its source",
  verifying: "verifies",
  held: "waits for a decision",
  approved: "goes on",
  done: "done",
  failed: "failed",
  left: "ended by a decision",
  "not run": "not run",
};
