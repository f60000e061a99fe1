import { Link } from "react-router";
import type { Schema } from "../../api/client";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { useWriteBacks } from "./queries";

/** WriteBacks shows what was written back, of a run or to a connection, the newest first. */
export function WriteBacks({ of }: { of: { run?: number; connection?: number } }) {
  const all = useWriteBacks(of);
  if (all.error) return <Trouble error={all.error} again={() => void all.refetch()} />;
  if (!all.data) return <Wait for="the write-backs" />;
  if (all.data.length === 0) return <p>Nothing yet. The page of a finished run has the button “Write back”.</p>;
  return (
    <Scroll label="Written back">
      <table className="rows">
        <thead>
          <tr>
            <th>Write-back</th>
            <th>Begun</th>
            <th>By</th>
            <th>What came of it</th>
          </tr>
        </thead>
        <tbody>
          {all.data.map((b) => (
            <tr key={b.id}>
              <td>
                <Link to={`/write-backs/${b.id}`}>
                  {b.id}: {states[b.state]}
                </Link>
                {!of.run && <small className="quiet">of run {b.runId}</small>}
              </td>
              <td>
                <When at={b.begunAt} />
              </td>
              <td>
                <bdi>{b.by}</bdi>
              </td>
              <td>
                <bdi>{b.says}</bdi>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

/** states say where a write-back stands. */
export const states: Record<Schema<"WriteBack">["state"], string> = {
  preparing: "prepares",
  writing: "writes",
  done: "done",
  failed: "failed",
  undoing: "is being undone",
  undone: "undone",
};
