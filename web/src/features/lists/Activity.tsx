import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type List, told } from "../../api/client";
import { number, plural } from "../../words";
import { hashOf } from "../workshop/steps";

/** Activity draws when something was seen of the addresses of a list last. */
export function Activity({ list }: { list: List }) {
  const activity = useQuery({
    queryKey: ["list-activity", list.id],
    queryFn: async () => told(await api.GET("/lists/{id}/activity", { params: { path: { id: list.id } } })),
  });
  const a = activity.data;
  if (!a || a.kinds.length === 0) return null;
  const most = Math.max(...a.steps.map((s) => s.addresses));
  const lately = hashOf({
    listId: list.id,
    steps: [{ do: "slice", conditions: [{ fact: "active", test: "last", values: ["90"] }] }],
  });
  return (
    <section>
      <h2>Last activity</h2>
      <p>
        {a.says} What was seen: {a.kinds.map((k) => `${k.kind} (${number(k.addresses)})`).join(", ")}.{" "}
        <Link to={`/workshop${lately}`}>Those of the last 90 days</Link>
      </p>
      <table className="rows shares narrow">
        <colgroup>
          <col className="share-name" />
          <col />
          <col className="share-number" />
        </colgroup>
        <thead>
          <tr>
            <th colSpan={2}>Last seen</th>
            <th className="number">of {plural(a.addresses, "address", "addresses")}</th>
          </tr>
        </thead>
        <tbody>
          {a.steps.map((s) => (
            <tr key={s.step}>
              <td>{s.says}</td>
              <td className="share-bar" aria-hidden="true">
                <span
                  className={s.step === "never" ? "never" : undefined}
                  style={{ width: `${most ? (100 * s.addresses) / most : 0}%` }}
                />
              </td>
              <td className="number">{number(s.addresses)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
