import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, InputNumber } from "antd";
import { useState } from "react";
import { api, type Schema, told } from "../../api/client";
import { Choice } from "../../parts/Choice";
import { Trouble } from "../../parts/Notice";
import { plural } from "../../words";
import { Ask, Field } from "../account/Door";
import { type Plan, useBilling } from "./queries";

type Terms = Schema<"PlanTerms">;

const fresh: Terms = {
  name: "",
  grant: 0,
  keep: 0,
  syntaxCost: 0,
  domainCost: 0,
  mailboxCost: 1,
  urgent: 0,
  estimatesADay: 0,
  day: 0,
  personDay: 0,
  keyDay: 0,
  currency: "EUR",
  steps: [],
  subscriptionOff: 0,
};

const numbers: [
  keyof Terms &
    (
      | "grant"
      | "keep"
      | "mailboxCost"
      | "domainCost"
      | "syntaxCost"
      | "urgent"
      | "subscriptionOff"
      | "estimatesADay"
      | "day"
      | "personDay"
      | "keyDay"
    ),
  string,
][] = [
  ["grant", "Checks granted each month"],
  ["keep", "Months a grant is kept; 0: no limit"],
  ["mailboxCost", "Cost of a finding by mail hosts"],
  ["domainCost", "Cost of a finding by DNS"],
  ["syntaxCost", "Cost of a finding by syntax"],
  ["urgent", "Urgent runs cost this many times as much; 0: not offered"],
  ["subscriptionOff", "Discount of a subscription, in %"],
  ["estimatesADay", "Free estimates a day; 0 any number"],
  ["day", "Checks a day; 0 any number"],
  ["personDay", "Checks a day for each person; 0 any number"],
  ["keyDay", "Checks a day for each key; 0 any number"],
];

/** Plans are what workspaces may have. */
export function Plans({ of: plans }: { of: Plan[] }) {
  const [open, setOpen] = useState<number>();
  return (
    <section>
      <h2>Plans</h2>
      {plans.length > 0 && <ForNew plans={plans} />}
      {plans.length === 0 && <p>There is no plan yet. With one, an allowance can be kept of a workspace.</p>}
      <ul className="plans">
        {plans.map((p) => (
          <li key={p.id}>
            <bdi>{p.name}</bdi>, of {plural(p.workspaces ?? 0, "workspace")}{" "}
            <Button size="small" onClick={() => setOpen(open === p.id ? undefined : p.id)}>
              {open === p.id ? "Leave it" : "Change"}
            </Button>
            {open === p.id && <Form key={p.id} plan={p} done={() => setOpen(undefined)} />}
          </li>
        ))}
      </ul>
      {open === 0 ? (
        <Form plan={fresh} done={() => setOpen(undefined)} />
      ) : (
        <Button onClick={() => setOpen(0)}>Make a plan</Button>
      )}
    </section>
  );
}

/** ForNew chooses the plan that new workspaces get. */
function ForNew({ plans }: { plans: Plan[] }) {
  const client = useQueryClient();
  const billing = useBilling();
  const choose = useMutation({
    mutationFn: async (defaultPlanId: number) => {
      const { calls: _, ...kept } = billing.data ?? { provider: "", taxes: [], defaultPlanId: 0 };
      return told(await api.PUT("/installation/billing", { body: { ...kept, defaultPlanId } }));
    },
    onSuccess: (next) => client.setQueryData(["billing"], next),
  });
  return (
    <div className="settle">
      <Choice<number>
        label="New workspaces get"
        value={billing.data?.defaultPlanId}
        loading={choose.isPending || !billing.data}
        disabled={!billing.data}
        onChange={(id) => choose.mutate(id)}
        style={{ minWidth: 220 }}
        options={[
          { value: 0, label: "none: as much as they like" },
          ...plans.map((p) => ({ value: p.id ?? 0, label: p.name })),
        ]}
      />
      {choose.error && <Trouble error={choose.error} />}
    </div>
  );
}

function Form({ plan, done }: { plan: Plan; done: () => void }) {
  const client = useQueryClient();
  const { id, workspaces, digits: _, ...begin } = plan;
  const [t, setT] = useState<Terms>(begin);
  const changed = () => {
    void client.invalidateQueries({ queryKey: ["plans"] });
    void client.invalidateQueries({ queryKey: ["accounts"] });
    done();
  };
  const save = useMutation({
    mutationFn: async () =>
      id
        ? told(await api.PUT("/installation/plans/{id}", { params: { path: { id } }, body: t }))
        : told(await api.POST("/installation/plans", { body: t })),
    onSuccess: changed,
  });
  const remove = useMutation({
    mutationFn: async () => told(await api.DELETE("/installation/plans/{id}", { params: { path: { id: id ?? 0 } } })),
    onSuccess: changed,
  });
  return (
    <Ask
      act={id ? "Save the plan" : "Make the plan"}
      onSend={() => save.mutate()}
      busy={save.isPending}
      error={save.error}
      ready={t.name !== ""}
    >
      <div className="asked">
        <Field label="Name of the plan" value={t.name} onChange={(name) => setT({ ...t, name })} maxLength={100} />
        <div className="beside">
          {numbers.map(([name, label]) => (
            <label key={name}>
              {label}
              <InputNumber<number>
                min={0}
                precision={0}
                controls={false}
                value={t[name]}
                onChange={(n) => setT({ ...t, [name]: n ?? 0 })}
              />
            </label>
          ))}
        </div>
        <Steps of={t} set={setT} />
        {id && workspaces === 0 && (
          <Button danger onClick={() => remove.mutate()} loading={remove.isPending}>
            Delete the plan
          </Button>
        )}
        {remove.error && <Trouble error={remove.error} />}
      </div>
    </Ask>
  );
}

/** Steps are the steps of the prices; the last goes on to any number. */
function Steps({ of: t, set }: { of: Terms; set: (next: Terms) => void }) {
  const steps = t.steps ?? [];
  const change = (i: number, part: Partial<Schema<"PriceStep">>) =>
    set({ ...t, steps: steps.map((s, k) => (k === i ? { ...s, ...part } : s)) });
  return (
    <fieldset className="asked">
      <legend>Prices, in the smallest unit of the currency</legend>
      <Field
        label="Currency (ISO 4217)"
        value={t.currency ?? ""}
        onChange={(c) => set({ ...t, currency: c.toUpperCase() })}
        maxLength={3}
      />
      {steps.map((s, i) => (
        <div className="row-acts" key={i}>
          <InputNumber<number>
            aria-label={`Step ${i + 1}: up to`}
            placeholder="any number"
            min={0}
            controls={false}
            value={s.upTo || null}
            onChange={(n) => change(i, { upTo: n ?? 0 })}
            style={{ width: 150 }}
          />
          <InputNumber<number>
            aria-label={`Step ${i + 1}: a thousand cost`}
            min={0}
            controls={false}
            value={s.perThousand}
            onChange={(n) => change(i, { perThousand: n ?? 0 })}
            style={{ width: 150 }}
            suffix="a thousand"
          />
          <Button onClick={() => set({ ...t, steps: steps.filter((_, k) => k !== i) })}>Remove</Button>
        </div>
      ))}
      <Button onClick={() => set({ ...t, steps: [...steps, { upTo: 0, perThousand: 0 }] })}>Add a step</Button>
    </fieldset>
  );
}
