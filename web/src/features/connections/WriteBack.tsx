import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { Button, Select } from "antd";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { useList, useRun, useSettled } from "../../api/hooks";
import { For } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";
import { RunPath } from "../../parts/RunPath";
import { useConnection, useConnections } from "./queries";
import { type Step, StepForm, usualStep } from "./StepForm";
import { WriteBacks } from "./WriteBacks";

/** WriteBack has a person say what is written back, and says what that will do before it is done. */
export function WriteBack() {
  const id = Number(useParams().id);
  const run = useRun(id);
  const list = useList(run.data?.listId ?? 0);
  const from = useConnection(list.data?.connectionId ?? 0);
  const connections = useConnections();
  const [chosen, setChosen] = useState<number>();
  const error = run.error ?? list.error ?? connections.error;
  if (error) return <Trouble error={error} />;
  if (!run.data || !list.data || !connections.data || (list.data.connectionId && !from.data))
    return <Wait for="the run" />;
  const others = connections.data.filter((c) => c.files && c.id !== from.data?.id);
  const to = chosen ? connections.data.find((c) => c.id === chosen) : (from.data ?? others[0]);
  const places = [...(from.data ? [from.data] : []), ...others];
  return (
    <>
      <RunPath run={run.data} />
      <h1>Write back</h1>
      {!to ? (
        <p>
          This list came from a file, so there is no place to write back to. <Link to="/connections">Connect</Link> the
          place where the contacts live and import the list from there, or connect a folder or server for files.
        </p>
      ) : (
        <>
          {places.length > 1 && (
            <Select
              aria-label="Where to"
              value={to.id}
              onChange={setChosen}
              options={places.map((c) => ({ value: c.id, label: c.name }))}
            />
          )}
          <For scope="export" otherwise={<p>You can look at this, but not write back.</p>}>
            <Planning key={to.id} run={run.data} to={to} />
          </For>
        </>
      )}
      <h2>Written back before</h2>
      <WriteBacks of={{ run: id }} />
    </>
  );
}

/** Planning is the steps at the left, and what they will do at the right. */
function Planning({ run, to }: { run: Schema<"Run">; to: Schema<"Connection"> }) {
  const go = useNavigate();
  const [steps, setSteps] = useState<Step[]>(() => [
    usualStep(to.takes.includes("field") ? "field" : (to.takes[0] ?? "")),
  ]);
  const body = { steps, connectionId: to.id };
  const settled = useSettled(body, 400);
  const draft = useQuery({
    queryKey: ["write-back-draft", run.id, settled, run.policy, run.version, run.done],
    queryFn: async () =>
      told(
        await api.POST("/runs/{id}/write-backs/draft", {
          params: { path: { id: run.id }, query: { first: 5 } },
          body: settled,
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const begin = useMutation({
    mutationFn: async (tag: string) =>
      told(await api.POST("/runs/{id}/write-backs", { params: { path: { id: run.id } }, body: { ...settled, tag } })),
    onSuccess: (b) => go(`/write-backs/${b.id}`),
  });
  const fresh = draft.data && !draft.isPlaceholderData && JSON.stringify(body) === JSON.stringify(settled);
  if (to.takes.length === 0) return <p>This connection cannot be written to.</p>;
  return (
    <div className="halves">
      <section>
        <h2>What is written to {to.name}</h2>
        {steps.map((s, i) => (
          <StepForm
            key={i}
            value={s}
            takes={to.takes}
            onChange={(n) => setSteps(steps.with(i, n))}
            onRemove={steps.length > 1 ? () => setSteps(steps.filter((_, k) => k !== i)) : undefined}
          />
        ))}
        <div className="acts">
          <button
            type="button"
            className="plain"
            disabled={steps.length >= 10}
            onClick={() =>
              setSteps([...steps, usualStep(to.takes.includes("collection") ? "collection" : to.takes[0]!)])
            }
          >
            Add a step
          </button>
        </div>
      </section>
      <section aria-live="polite">
        <h2>What it will do</h2>
        {draft.error ? (
          <p className="quiet">{draft.error.message}</p>
        ) : !draft.data ? (
          <Wait for="the counts" />
        ) : (
          <Draft of={draft.data} steps={settled.steps} />
        )}
        {begin.error && <Trouble error={begin.error} />}
        <div className="acts">
          <Button
            type="primary"
            size="large"
            disabled={!fresh || !!draft.error || draft.data.steps.every((s) => s.contacts === 0)}
            loading={begin.isPending}
            onClick={() => draft.data && begin.mutate(draft.data.tag)}
          >
            Write it back
          </Button>
        </div>
        <p className="quiet">
          Contacts whose address was changed since the import, and those that are gone, are skipped. What each contact
          had is kept in a journal, by which it can be undone.
        </p>
      </section>
    </div>
  );
}

/** Draft says what each step will do, with its first contacts. */
function Draft({ of: d, steps }: { of: Schema<"WriteBackDraft">; steps: Step[] }) {
  return d.says.map((says, i) => (
    <div key={i}>
      <p className="sentence">
        <bdi>{says}</bdi>
      </p>
      {d.steps[i] && d.steps[i].first.length > 0 && (
        <ul className="first">
          {d.steps[i].first.map((c) => (
            <li key={c.number}>
              <bdi>{c.addresses.join(", ")}</bdi>
              {steps[i]?.act === "field" && (
                <>
                  : <bdi>{c.value}</bdi>
                </>
              )}
            </li>
          ))}
          {d.steps[i].contacts > d.steps[i].first.length && <li className="quiet">and others</li>}
        </ul>
      )}
    </div>
  ));
}
