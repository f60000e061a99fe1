import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox, Input, InputNumber } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type Decision, told } from "../../api/client";
import { Field } from "../../parts/Field";
import { Trouble } from "../../parts/Notice";
import { glyphs } from "../../words";

const all: Decision[] = ["keep", "hold", "drop"];

/** Register registers a mailing that was sent to rows of a run. */
export function Register({ run, list }: { run: number; list: string }) {
  const go = useNavigate();
  const client = useQueryClient();
  const [name, setName] = useState(list);
  const [decisions, setDecisions] = useState<Decision[]>(["keep"]);
  const [hours, setHours] = useState(72);
  const [later, setLater] = useState(false);
  const register = useMutation({
    mutationFn: async () =>
      told(await api.POST("/mailings", { body: { name, runId: run, decisions, watchHours: hours, sendLater: later } })),
    onSuccess: (m) => {
      void client.invalidateQueries({ queryKey: ["mailings"] });
      void go(`/mailings/${m.id}`);
    },
  });
  return (
    <details className="register">
      <summary>Sent it? Register the mailing, and learn from what comes back</summary>
      <p>
        Varnet then knows whom you wrote to. Import what comes back on the page <em>Bounces</em>: what bounced is
        dropped from then on, and catch-all addresses that stay silent are settled.
      </p>
      {register.error && <Trouble error={register.error} />}
      <Field label="Name of the mailing">
        <Input value={name} maxLength={200} onChange={(e) => setName(e.target.value)} />
      </Field>
      <Field label="Sent to the rows that are">
        <Checkbox.Group
          value={decisions}
          onChange={(d) => setDecisions(d)}
          options={all.map((d) => ({ value: d, label: `${glyphs[d]} ${d}` }))}
        />
      </Field>
      <Field
        label="Watch for bounces, hours"
        help="Hosts try for up to five days; after three nearly all have answered."
      >
        <InputNumber value={hours} min={1} max={240} onChange={(h) => setHours(h ?? 72)} />
      </Field>
      <p>
        <Checkbox checked={later} onChange={(e) => setLater(e.target.checked)}>
          I will send it later: make return addresses for it
        </Checkbox>
      </p>
      <Button
        disabled={name.trim() === "" || decisions.length === 0}
        loading={register.isPending}
        onClick={() => register.mutate()}
      >
        {later ? "Register the mailing" : "Register the mailing, sent now"}
      </Button>
    </details>
  );
}
