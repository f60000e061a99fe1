import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Segmented } from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { For } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { Sure } from "../../parts/Sure";
import { number } from "../../words";
import { connectionKeys, useConnection, useWriteBack } from "./queries";
import { inWords } from "./stepWords";
import { states } from "./WriteBacks";

type Item = Schema<"WriteBackItem">;

/** WriteBackPage shows a write-back with its journal, and lets a person undo it. */
export function WriteBackPage() {
  const id = Number(useParams().id);
  const writeBack = useWriteBack(id);
  const b = writeBack.data;
  const connection = useConnection(b?.connectionId ?? 0);
  const client = useQueryClient();
  const undo = useMutation({
    mutationFn: async () => told(await api.POST("/write-backs/{id}/undo", { params: { path: { id } } })),
    onSuccess: (k) => client.setQueryData(connectionKeys.writeBack(id), k),
  });
  if (writeBack.error) return <Trouble error={writeBack.error} again={() => void writeBack.refetch()} />;
  if (!b) return <Wait for="the write-back" />;
  return (
    <>
      <p className="path">
        <Link to={`/runs/${b.runId}`}>Run {b.runId}</Link> →{" "}
        <Link to={`/connections/${b.connectionId}`}>
          <bdi>{connection.data?.name ?? "connection"}</bdi>
        </Link>{" "}
        →
      </p>
      <h1>
        Write-back {b.id}: {states[b.state]}
      </h1>
      <p className="sentence" role="status">
        <bdi>{b.says}</bdi>
      </p>
      {undo.error && <Trouble error={undo.error} />}
      <For scope="export">
        {b.canUndo && (
          <div className="acts">
            <Sure
              ask="Undo this write-back?"
              says="Contacts get back what they had, where they still have what was written. A collection that was made is deleted."
              yes="Yes, undo it"
              no="Leave it"
              onYes={() => undo.mutate()}
            >
              Undo it
            </Sure>
          </div>
        )}
      </For>
      <Steps of={b} />
      <Journal of={b} />
    </>
  );
}

const shownStates = ["done", "skipped", "failed", "undone", "left", "open"] as const;

/** Steps counts what became of each step. */
function Steps({ of: b }: { of: Schema<"WriteBack"> }) {
  const count = (step: number, state: string) =>
    b.counts
      .filter((c) => c.step === step && (c.state === state || (state === "open" && c.state === "begun")))
      .reduce((n, c) => n + c.items, 0);
  const columns = shownStates.filter((s) => s === "done" || b.spec.steps.some((_, i) => count(i, s) > 0));
  if (b.counts.length === 0) return null;
  return (
    <Scroll label="Steps">
      <table className="rows narrow">
        <thead>
          <tr>
            <th>Step</th>
            {columns.map((s) => (
              <th key={s} className="number">
                {s === "left" ? "not undone" : s}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {b.spec.steps.map((s, i) => (
            <tr key={i}>
              <td>
                <bdi>{inWords(s)}</bdi>
              </td>
              {columns.map((state) => (
                <td key={state} className="number">
                  {number(count(i, state))}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

const filters = [
  { value: "", label: "all" },
  { value: "skipped,failed,left", label: "not made" },
];

/** Journal shows what each contact got, and had. */
function Journal({ of: b }: { of: Schema<"WriteBack"> }) {
  const [filter, setFilter] = useState("");
  const journal = useInfiniteQuery({
    queryKey: ["journal", b.id, filter, b.endedAt ?? ""],
    initialPageParam: undefined as string | undefined,
    queryFn: async ({ pageParam }) =>
      told(
        await api.GET("/write-backs/{id}/items", {
          params: {
            path: { id: b.id },
            query: { cursor: pageParam, limit: 50, state: filter ? (filter.split(",") as Item["state"][]) : undefined },
          },
        }),
      ),
    getNextPageParam: (last) => last.next,
    select: (pages) => pages.pages.flatMap((p) => p.items),
  });
  return (
    <section>
      <h2>Journal</h2>
      <Segmented aria-label="Which contacts" value={filter} onChange={setFilter} options={filters} />
      {journal.error && <Trouble error={journal.error} />}
      {!journal.data && !journal.error && <Wait for="the journal" />}
      {journal.data?.length === 0 && <p>No contact.</p>}
      {journal.data && journal.data.length > 0 && (
        <Scroll label="Journal">
          <table className="rows">
            <thead>
              <tr>
                <th>Contact</th>
                <th>Step</th>
                <th>Gets</th>
                <th>Had</th>
                <th>What became of it</th>
              </tr>
            </thead>
            <tbody>
              {journal.data.map((i) => (
                <tr key={`${i.step}-${i.number}`}>
                  <td>
                    <bdi>{i.addresses.join(", ") || "no address"}</bdi>
                    <small className="quiet">{i.key}</small>
                  </td>
                  <td>{i.step + 1}</td>
                  <td>
                    <bdi>{i.value || "nothing"}</bdi>
                  </td>
                  <td>
                    <bdi>{had(i)}</bdi>
                  </td>
                  <td>
                    {i.state === "left" ? "not undone" : i.state}
                    {i.why && (
                      <small className="quiet">
                        <bdi>{i.why}</bdi>
                      </small>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
      {journal.hasNextPage && (
        <Button loading={journal.isFetchingNextPage} onClick={() => void journal.fetchNextPage()}>
          Show more
        </Button>
      )}
    </section>
  );
}

function had(i: Item): string {
  if (i.had === undefined) return "";
  return i.had || "nothing";
}
