import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { type ReactNode, useEffect } from "react";
import { Link } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { keys } from "../../api/hooks";
import { For } from "../../parts/For";
import { useReadiness } from "../outbound/queries";

/** Guide shows the first four steps in a workspace: which are done, and what the next one is. It ends with the first export. */
export function Guide({ of: guide }: { of: Schema<"Guide"> }) {
  const readiness = useReadiness();
  const client = useQueryClient();
  const hide = useMutation({
    mutationFn: async () => told(await api.DELETE("/guide")),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.session }),
  });
  // What was imported and run meanwhile counts.
  useEffect(() => void client.invalidateQueries({ queryKey: keys.session }), [client]);
  const ready = readiness.data?.state !== "not ready";
  const steps: { name: string; done: boolean; says: ReactNode }[] = [
    {
      name: "Check that mail hosts answer",
      done: readiness.data !== undefined && ready,
      says: (
        <>
          {readiness.data?.says}{" "}
          <For scope="installation">
            <Link to="/outbound">Open Outbound</Link>
          </For>
        </>
      ),
    },
    {
      name: "Import a list",
      done: guide.listId !== undefined,
      says: (
        <>
          Any file with a column of addresses: CSV, Excel and others. Drop it on this page, or{" "}
          <Link to="/import">choose it</Link>. Or <Link to="/connections">connect the place</Link> where your contacts
          are.
        </>
      ),
    },
    {
      name: "Verify it",
      done: guide.runId !== undefined,
      says: (
        <>
          Varnet asks DNS and the mail hosts about each address. No message is sent.{" "}
          {guide.listId !== undefined && <Link to={`/lists/${guide.listId}`}>Start a run</Link>}
        </>
      ),
    },
    {
      name: "Export the rows to keep",
      done: false,
      says: (
        <>
          The same file, with only the rows worth mailing.{" "}
          {guide.runId !== undefined && <Link to={`/runs/${guide.runId}/export`}>Choose what to export</Link>}
        </>
      ),
    },
  ];
  const next = steps.findIndex((s) => !s.done);
  return (
    <section className="guide" aria-labelledby="first-steps">
      <h2 id="first-steps">First steps</h2>
      <ol>
        {steps.map((s, i) => (
          <li key={s.name} className={s.done ? "done" : undefined} aria-current={i === next ? "step" : undefined}>
            <strong>{s.name}</strong>
            {s.done && <span className="quiet"> done</span>}
            {i === next && <p>{s.says}</p>}
          </li>
        ))}
      </ol>
      <Button type="link" loading={hide.isPending} onClick={() => hide.mutate()}>
        Hide these steps
      </Button>
    </section>
  );
}
