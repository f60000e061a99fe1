import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schema, told } from "../../api/client";
import { Trouble, Wait } from "../../parts/Notice";
import { Ask, Field } from "../account/Door";
import { Buyer, empty } from "./Buyer";
import { useBilling } from "./queries";

/** Billing sets the payment provider, who sells, and what tax is added. */
export function Billing() {
  const billing = useBilling();
  if (billing.error) return <Trouble error={billing.error} again={() => void billing.refetch()} />;
  if (!billing.data) return <Wait for="the payment" />;
  return <Form key={JSON.stringify(billing.data)} of={billing.data} />;
}

/** A row of the table of taxes is written as "GB VAT 20 reverse". */
const written = (t: Schema<"TaxRate">) => `${t.country} ${t.name} ${t.rate / 100}${t.reverse ? " reverse" : ""}`;

function read(text: string): Schema<"TaxRate">[] | undefined {
  const rows: Schema<"TaxRate">[] = [];
  for (const line of text.split("\n").filter((l) => l.trim() !== "")) {
    const m = line.trim().match(/^([A-Z]{2})\s+(.+?)\s+([0-9]+(?:[.][0-9]{1,2})?)(\s+reverse)?$/);
    if (!m) return undefined;
    rows.push({ country: m[1]!, name: m[2]!, rate: Math.round(100 * Number(m[3])), ...(m[4] && { reverse: true }) });
  }
  return rows;
}

function Form({ of: b }: { of: Schema<"Billing"> }) {
  const client = useQueryClient();
  const [provider, setProvider] = useState(b.provider);
  const [secret, setSecret] = useState("");
  const [seller, setSeller] = useState(b.seller ?? empty);
  const [taxes, setTaxes] = useState(b.taxes.map(written).join("\n"));
  const rows = read(taxes);
  const save = useMutation({
    mutationFn: async () =>
      told(
        await api.PUT("/installation/billing", {
          body: {
            provider,
            defaultPlanId: b.defaultPlanId,
            taxes: rows ?? [],
            ...(secret && { secret }),
            ...(seller.name && { seller }),
          },
        }),
      ),
    onSuccess: (next) => client.setQueryData(["billing"], next),
  });
  return (
    <section>
      <h2>Payment</h2>
      <p>
        {b.provider && b.seller
          ? "Checks can be bought where a plan has prices."
          : "Without a payment provider and a seller nothing can be bought; checks are granted by plans and by you."}
        {b.calls && ` The provider calls ${b.calls}.`}
      </p>
      <Ask act="Save" onSend={() => save.mutate()} busy={save.isPending} error={save.error} ready={rows !== undefined}>
        <div className="halves">
          <section className="asked">
            <Field label="Address of the payment provider" value={provider} onChange={setProvider} maxLength={300} />
            <Field
              label="Secret that calls are signed by"
              value={secret}
              onChange={setSecret}
              autoComplete="off"
              maxLength={200}
              hint={b.provider ? "Left empty, the one that is there stays." : "It begins with whsec_."}
            />
            <div className="labelled">
              <label htmlFor="taxes">Taxes, a line for each country: GB VAT 20</label>
              <textarea
                id="taxes"
                className="field"
                rows={5}
                value={taxes}
                aria-describedby="taxes-hint"
                onChange={(e) => setTaxes(e.target.value)}
              />
              <small id="taxes-hint" className="quiet">
                {rows === undefined
                  ? "One of the lines cannot be read: two capital letters, the name of the tax, its percent."
                  : "With “reverse” at the end, businesses abroad with a VAT number owe it themselves."}
              </small>
            </div>
          </section>
          <section>
            <h3>Who sells</h3>
            <Buyer of={seller} set={setSeller} />
          </section>
        </div>
      </Ask>
    </section>
  );
}
