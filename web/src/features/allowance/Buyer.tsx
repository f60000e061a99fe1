import type { Schema } from "../../api/client";
import { Field } from "../account/Door";

export type Party = Schema<"Party">;

export const empty: Party = { name: "", lines: [], country: "" };

/** Buyer is whom invoices are made out to, or who sells. */
export function Buyer({ of: p, set }: { of: Party; set: (next: Party) => void }) {
  return (
    <div className="asked">
      <Field label="Name on the invoice" value={p.name} onChange={(name) => set({ ...p, name })} maxLength={200} />
      <div className="labelled">
        <label htmlFor="party-lines">Postal address, line by line</label>
        <textarea
          id="party-lines"
          className="field"
          rows={3}
          value={p.lines.join("\n")}
          onChange={(e) => set({ ...p, lines: e.target.value === "" ? [] : e.target.value.split("\n").slice(0, 6) })}
        />
      </div>
      <div className="beside">
        <Field
          label="Country, two letters"
          value={p.country}
          onChange={(country) => set({ ...p, country: country.toUpperCase() })}
          maxLength={2}
        />
        <Field
          label="VAT number"
          value={p.vatNumber ?? ""}
          onChange={(n) => set({ ...p, vatNumber: n || undefined })}
          maxLength={40}
        />
      </div>
    </div>
  );
}
