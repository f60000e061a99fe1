import { useQuery } from "@tanstack/react-query";
import { api, type List, told } from "../../api/client";
import { number } from "../../words";

const ages = [
  ["week", "up to 7 days"],
  ["month", "8 to 30 days"],
  ["quarter", "31 to 90 days"],
  ["older", "older"],
] as const;

/** Known says what is known of the addresses of a list that was not run yet, with the ages of the results. */
export function Known({ list }: { list: List }) {
  const known = useQuery({
    queryKey: ["list-known", list.id],
    queryFn: async () => told(await api.GET("/lists/{id}/known", { params: { path: { id: list.id } } })),
  });
  const k = known.data;
  if (!k || k.known === 0) return null;
  return (
    <section className="known">
      <h2>What is known already</h2>
      <p>
        {k.says} A run that reuses results asks about the rest alone, and again about what is undecided or older than
        you choose.
      </p>
      <div className="scroll">
        <table className="rows narrow">
          <thead>
            <tr>
              <th>Finding</th>
              <th className="number">Addresses</th>
              {ages.map(([, says]) => (
                <th key={says} className="number">
                  {says}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {k.findings.map((f) => (
              <tr key={f.finding}>
                <td>{f.finding}</td>
                <td className="number">{number(f.addresses)}</td>
                {ages.map(([name]) => (
                  <td key={name} className="number">
                    {f[name] > 0 && number(f[name])}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
