import { Select } from "antd";
import type { Schema } from "../../api/client";
import { Field } from "../../parts/Field";
import { Trouble } from "../../parts/Notice";
import { number } from "../../words";
import { useCollections, useConnections } from "../connections/queries";
import { StepForm, usualStep } from "../connections/StepForm";

type Spec = Schema<"RoutineSpec">;

interface Part {
  value: Spec;
  set: (part: Partial<Spec>) => void;
}

/** FromConnection has a person choose the collection of a connection that a routine reads. */
export function FromConnection({ value: s, set }: Part) {
  const connections = useConnections();
  const collections = useCollections(s.connectionId ?? 0);
  return (
    <>
      <Field label="Connection">
        <Select
          value={s.connectionId || undefined}
          onChange={(connectionId) => set({ connectionId, collection: undefined })}
          options={connections.data?.map((c) => ({ value: c.id, label: c.name }))}
          placeholder="choose a connection"
        />
      </Field>
      {collections.error && <Trouble error={collections.error} />}
      <Field label="Collection">
        <Select
          value={s.collection || undefined}
          onChange={(collection) =>
            set({
              collection,
              collectionName: collections.data?.find((c) => c.id === collection)?.name,
              onChange: false,
            })
          }
          options={collections.data?.map((c) => ({
            value: c.id,
            label: c.contacts < 0 ? c.name : `${c.name} (${number(c.contacts)})`,
          }))}
          placeholder="choose what is read"
        />
      </Field>
    </>
  );
}

/** usualBack is what is usually written back to a place that takes so much. */
export function usualBack(takes: string[]) {
  const act = takes.includes("field") ? "field" : takes[0];
  return act ? [usualStep(act)] : [];
}

/** BackToConnection has a person say what is written back each time. */
export function BackToConnection({ value: s, set }: Part) {
  const connections = useConnections();
  const takes = connections.data?.find((c) => c.id === s.connectionId)?.takes ?? [];
  const steps = s.thenSteps ?? [];
  if (!s.connectionId) return <p>Choose the connection that it reads first.</p>;
  if (connections.data && takes.length === 0) return <p>This connection cannot be written to.</p>;
  return (
    <>
      {steps.map((step, i) => (
        <StepForm
          key={i}
          value={step}
          takes={takes}
          onChange={(n) => set({ thenSteps: steps.with(i, n) })}
          onRemove={() => set({ thenSteps: steps.filter((_, k) => k !== i) })}
        />
      ))}
      <div className="acts">
        <button type="button" className="plain" onClick={() => set({ thenSteps: [...steps, ...usualBack(takes)] })}>
          Add a step
        </button>
      </div>
    </>
  );
}
