import { Link } from "react-router";

/** RunPath is the way to a page of a run: over its list and the run itself. */
export function RunPath({ run }: { run: { id: number; listId: number; listName: string } }) {
  return (
    <p className="path">
      <Link to="/lists">Lists</Link> →{" "}
      <Link to={`/lists/${run.listId}`}>
        <bdi>{run.listName}</bdi>
      </Link>{" "}
      → <Link to={`/runs/${run.id}`}>Run {run.id}</Link> →
    </p>
  );
}
