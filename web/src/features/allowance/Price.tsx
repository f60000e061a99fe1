import { keepPreviousData, type UseQueryResult, useQuery } from "@tanstack/react-query";
import { api, type Schema, told } from "../../api/client";
import { useSettled } from "../../api/hooks";
import { Trouble } from "../../parts/Notice";
import type { Party } from "./Buyer";

/** usePrice gives what a number of checks costs, once it has been typed. */
export function usePrice(checks: number | null, subscription: boolean, buyer?: Party) {
  const settled = useSettled(checks, 200);
  const tax = buyer && /^[A-Z]{2}$/.test(buyer.country) ? { country: buyer.country, vatNumber: buyer.vatNumber } : {};
  return useQuery({
    queryKey: ["price", settled, subscription, tax],
    enabled: settled !== null && settled > 0,
    placeholderData: keepPreviousData,
    queryFn: async () => told(await api.POST("/prices", { body: { checks: settled ?? 1, subscription, ...tax } })),
  });
}

/** Price shows how a price comes about, step by step. */
export function Price({ of }: { of: UseQueryResult<Schema<"Price">> }) {
  if (of.error) return <Trouble error={of.error} />;
  if (!of.data) return null;
  const p = of.data;
  return (
    <div role="status" className="price">
      {p.lines.map((l) => (
        <div key={l.says}>{l.says}</div>
      ))}
      {p.cheaper > 0 && <div>Cheaper by {p.cheaper} %, as a subscription</div>}
      {p.taxSays && <div>{p.taxSays}</div>}
      <strong>Total {p.says}</strong>
    </div>
  );
}
