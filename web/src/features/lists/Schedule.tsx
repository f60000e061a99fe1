import { Input, InputNumber } from "antd";
import type { components } from "../../api/contract.gen";

import { here } from "../../words";

export type Times = Pick<components["schemas"]["NewRun"], "beginAt" | "hours" | "zone" | "limitMinutes">;

/** When settles when a run may work: at once and until it is done, unless somebody wants otherwise. */
export function When({ change }: { change: (of: (t: Times) => Times) => void }) {
  return (
    <details className="when">
      <summary>Schedule and limits</summary>
      <div className="settle">
        <label>
          Not before
          <Input
            type="datetime-local"
            onChange={(e) =>
              change((t) => ({ ...t, beginAt: e.target.value ? new Date(e.target.value).toISOString() : undefined }))
            }
          />
        </label>
        <label>
          Only at these hours ({here})
          <Input
            placeholder="22:00-06:00"
            onChange={(e) =>
              change((t) => ({
                ...t,
                hours: e.target.value.trim() || undefined,
                zone: e.target.value.trim() ? here : undefined,
              }))
            }
          />
        </label>
        <label>
          Stop after this many minutes
          <InputNumber
            min={1}
            max={100000}
            precision={0}
            onChange={(n) => change((t) => ({ ...t, limitMinutes: n ?? undefined }))}
          />
        </label>
      </div>
    </details>
  );
}
