import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { api, type List, told } from "../../api/client";
import { keys } from "../../api/hooks";
import { Trouble, Wait } from "../../parts/Notice";
import { glyphs, number, tones } from "../../words";

/** Estimate tells from a sample what a list will come to, before it is run. */
export function Estimate({ list }: { list: List }) {
  const client = useQueryClient();
  const make = useMutation({
    mutationFn: async () => told(await api.POST("/lists/{id}/estimate", { params: { path: { id: list.id } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.list(list.id) }),
  });
  const e = list.estimate;
  return (
    <section>
      <h2>How bad is it?</h2>
      {e ? (
        <p className="estimate-says">{e.sentence}</p>
      ) : (
        <p>
          A quick estimate asks about a sample of up to 400 addresses, drawn over all domains, in half a minute at most.
          A run reuses its results.
        </p>
      )}
      {e && (
        <table className="rows narrow">
          <tbody>
            {e.findings.map((f) => (
              <tr key={f.finding}>
                <td className={tones[f.finding]}>
                  <span aria-hidden="true">{glyphs[tones[f.finding]]}</span> {f.finding}
                </td>
                <td className="number">
                  {Math.floor(100 * f.low)} to {Math.ceil(100 * f.high)} % of {number(e.addresses)} addresses
                </td>
                <td>
                  <span className={`interval ${tones[f.finding]}`} aria-hidden="true">
                    <span style={{ left: `${100 * f.low}%`, right: `${100 - 100 * f.high}%` }} />
                  </span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {make.isPending && <Wait for="the sample's hosts, half a minute at most" />}
      {make.error && <Trouble error={make.error} />}
      <Button loading={make.isPending} onClick={() => make.mutate()}>
        {e ? "Estimate again" : "Estimate first"}
      </Button>
    </section>
  );
}
