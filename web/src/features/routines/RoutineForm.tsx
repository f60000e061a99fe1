import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox, Input, InputNumber, Select } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { useLists, usePolicies, useSettled } from "../../api/hooks";
import { Field } from "../../parts/Field";
import { Trouble } from "../../parts/Notice";
import { here, zones } from "../../words";
import { useConnections } from "../connections/queries";
import { useRecipes } from "../workshop/queries";
import { BackToConnection, FromConnection, usualBack } from "./ConnectionFields";
import { routineKeys } from "./queries";
import { RoutineDraft } from "./RoutineDraft";

type Spec = Schema<"RoutineSpec">;

const weekdays = [
  ["MO", "Monday"],
  ["TU", "Tuesday"],
  ["WE", "Wednesday"],
  ["TH", "Thursday"],
  ["FR", "Friday"],
  ["SA", "Saturday"],
  ["SU", "Sunday"],
] as const;

const rules = [
  { value: "", label: "not by the calendar" },
  { value: "FREQ=DAILY", label: "every day" },
  { value: "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", label: "Monday to Friday" },
  ...weekdays.map(([code, name]) => ({ value: `FREQ=WEEKLY;BYDAY=${code}`, label: `every ${name}` })),
  { value: "FREQ=MONTHLY;BYDAY=1MO", label: "the first Monday of the month" },
  { value: "FREQ=MONTHLY;BYDAY=-1FR", label: "the last Friday of the month" },
  { value: "FREQ=MONTHLY;BYMONTHDAY=1", label: "the first day of the month" },
  { value: "FREQ=MONTHLY;BYMONTHDAY=-1", label: "the last day of the month" },
];

const allZones = zones();

export const usual: Spec = {
  source: "list",
  rule: "FREQ=DAILY",
  time: "03:00",
  zone: here,
  ages: { deliverable: 30, "catch-all": 30, undeliverable: 90 },
  policy: "careful",
  // biome-ignore lint/suspicious/noThenProperty: the contract's word for what is done with the result
  then: "nothing",
  mostDropped: 5,
  tell: "changes",
};

/** Recipe is the saved steps that are followed, where there are any. */
function Recipe({ value: s, set }: { value: Spec; set: (part: Partial<Spec>) => void }) {
  const recipes = useRecipes();
  if (!recipes.data || (recipes.data.length === 0 && !s.recipeId)) return null;
  return (
    <Field label="Then" help="A recipe of steps, saved in the workshop, makes of it the list that is verified.">
      <Select
        value={s.recipeId ?? 0}
        onChange={(id) => set({ recipeId: id || undefined, recipeName: recipes.data.find((r) => r.id === id)?.name })}
        options={[
          { value: 0, label: "as it is" },
          ...recipes.data.map((r) => ({ value: r.id, label: `follow “${r.name}”` })),
        ]}
      />
    </Field>
  );
}

/** RoutineForm has a person say what a routine does, and shows it back in sentences. */
export function RoutineForm({ of: routine }: { of?: Schema<"Routine"> }) {
  const client = useQueryClient();
  const go = useNavigate();
  const lists = useLists();
  const policies = usePolicies();
  const [name, setName] = useState(routine?.name ?? "");
  const [spec, setSpec] = useState<Spec>(routine?.spec ?? usual);
  const set = (part: Partial<Spec>) => setSpec({ ...spec, ...part });
  const settled = useSettled(spec, 400);
  const connections = useConnections();
  const takes = connections.data?.find((c) => c.id === spec.connectionId)?.takes ?? [];
  const save = useMutation({
    mutationFn: async () =>
      routine
        ? told(await api.PATCH("/routines/{id}", { params: { path: { id: routine.id } }, body: { name, spec } }))
        : told(await api.POST("/routines", { body: { name, ...spec } })),
    onSuccess: async (r) => {
      client.setQueryData(routineKeys.one(r.id), r);
      await client.invalidateQueries({ queryKey: routineKeys.all });
      void go(`/routines/${r.id}`);
    },
  });
  return (
    <form
      className="halves"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <section>
        <Field label="Name">
          <Input
            value={name}
            maxLength={100}
            onChange={(e) => setName(e.target.value)}
            placeholder="Members, every night"
          />
        </Field>
        <Field label="Source">
          <Select
            value={spec.source}
            onChange={(source) => set({ source })}
            options={[
              { value: "list", label: "the newest import of a list" },
              { value: "folder", label: "a file in the folder for routines" },
              { value: "url", label: "a web address" },
              { value: "connection", label: "a collection of a connection" },
            ]}
          />
        </Field>
        {spec.source === "connection" && <FromConnection value={spec} set={set} />}
        {spec.source === "list" && (
          <Field label="List">
            <Select
              showSearch={{ optionFilterProp: "label" }}
              value={spec.listId || undefined}
              onChange={(listId) => set({ listId })}
              options={lists.data?.map((l) => ({ value: l.id, label: l.name }))}
              placeholder="choose a list"
            />
          </Field>
        )}
        {spec.source === "folder" && (
          <Field label="File, or a pattern of names">
            <Input value={spec.file} onChange={(e) => set({ file: e.target.value })} placeholder="members*.csv" />
          </Field>
        )}
        {spec.source === "url" && (
          <Field label="Address">
            <Input
              value={spec.url}
              onChange={(e) => set({ url: e.target.value })}
              placeholder="https://files.fernhollow.example/members.csv"
            />
          </Field>
        )}
        <Recipe value={spec} set={set} />
        <Field label="Schedule">
          <Select
            value={spec.rule ?? ""}
            onChange={(rule) => set({ rule })}
            options={
              rules.some((r) => r.value === (spec.rule ?? ""))
                ? rules
                : [...rules, { value: spec.rule ?? "", label: spec.rule ?? "" }]
            }
          />
        </Field>
        {spec.rule && (
          <div className="pair">
            <Field label="At">
              <Input
                value={spec.time}
                maxLength={5}
                placeholder="03:00"
                onChange={(e) => set({ time: e.target.value })}
              />
            </Field>
            <Field label="In">
              <Select showSearch value={spec.zone} onChange={(zone) => set({ zone })} options={allZones} />
            </Field>
          </div>
        )}
        <p>
          <Checkbox
            disabled={spec.source === "connection"}
            checked={spec.onChange ?? false}
            onChange={(e) => set({ onChange: e.target.checked })}
          >
            After each change of its source, too
          </Checkbox>
        </p>
        <fieldset className="ages">
          <legend>New and undecided addresses are asked about each time; others again after this many days:</legend>
          {(["deliverable", "catch-all", "undeliverable"] as const).map((f) => (
            <Field key={f} label={f}>
              <InputNumber
                controls={false}
                min={0}
                max={730}
                value={spec.ages?.[f] ?? 0}
                onChange={(days) => set({ ages: { ...spec.ages, [f]: days ?? 0 } })}
              />
            </Field>
          ))}
        </fieldset>
        <Field label="Policy">
          <Select
            value={spec.policy}
            onChange={(policy) => set({ policy })}
            options={policies.data?.map((p) => ({ value: p.name, label: p.name }))}
          />
        </Field>
        <Field label="Kept rows">
          <Select
            value={spec.then}
            onChange={(then) =>
              set({
                then,
                thenSteps: then === "connection" && !spec.thenSteps?.length ? usualBack(takes) : spec.thenSteps,
              })
            }
            options={[
              { value: "nothing", label: "nowhere: they can be exported" },
              { value: "folder", label: "to a file in the folder for routines" },
              { value: "url", label: "to a web address, by PUT" },
              ...(spec.source === "connection"
                ? [{ value: "connection" as const, label: "written back to the connection" }]
                : []),
            ]}
          />
        </Field>
        {spec.then === "folder" && (
          <Field label="File name">
            <Input
              value={spec.thenFile}
              onChange={(e) => set({ thenFile: e.target.value })}
              placeholder="kept/{name}-{date}"
            />
          </Field>
        )}
        {spec.then === "url" && (
          <Field label="Address">
            <Input
              value={spec.thenUrl}
              onChange={(e) => set({ thenUrl: e.target.value })}
              placeholder="https://files.fernhollow.example/kept.csv"
            />
          </Field>
        )}
        {spec.then === "connection" && <BackToConnection value={spec} set={set} />}
        <div className="pair">
          <Field label="Ask a person above this many checks">
            <InputNumber
              controls={false}
              min={0}
              value={spec.mostChecks ?? 0}
              onChange={(n) => set({ mostChecks: n ?? 0 })}
            />
          </Field>
          <Field label="or above this % newly dropped">
            <InputNumber
              controls={false}
              min={0}
              max={100}
              value={spec.mostDropped ?? 0}
              onChange={(n) => set({ mostDropped: n ?? 0 })}
            />
          </Field>
        </div>
        <Field label="Notify">
          <Select
            value={spec.tell}
            onChange={(tell) => set({ tell })}
            options={[
              { value: "always", label: "each time" },
              { value: "changes", label: "when something changed" },
              { value: "problems", label: "of problems alone" },
            ]}
          />
        </Field>
        {save.error && <Trouble error={save.error} />}
        <div className="acts">
          <Button type="primary" htmlType="submit" loading={save.isPending} disabled={!name.trim()}>
            {routine ? "Save" : "Make the routine"}
          </Button>
        </div>
      </section>
      <RoutineDraft of={settled} />
    </form>
  );
}
