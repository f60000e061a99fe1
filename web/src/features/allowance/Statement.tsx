import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, told } from "../../api/client";
import { Choice } from "../../parts/Choice";
import { Trouble } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { moment, number } from "../../words";

/** Statement shows what came in a month and what went, so that it adds up by hand. */
export function Statement() {
  const months = lately();
  const [month, setMonth] = useState(months[0]!.value);
  const statement = useQuery({
    queryKey: ["statement", month],
    placeholderData: keepPreviousData,
    queryFn: async () => told(await api.GET("/statements/{month}", { params: { path: { month } } })),
  });
  const s = statement.data;
  const file = (format: string) => `/api/v1/statements/${month}/file?format=${format}`;
  return (
    <section>
      <h2>Statement</h2>
      <div className="settle">
        <Choice label="Month" value={month} onChange={setMonth} options={months} style={{ minWidth: 180 }} />
        <a href={file("pdf")} download>
          As PDF
        </a>
        <a href={file("csv")} download>
          As CSV
        </a>
      </div>
      {statement.error && <Trouble error={statement.error} again={() => void statement.refetch()} />}
      {s && (
        <>
          <p>{s.says}</p>
          <Scroll label="Statement">
            <table className="rows">
              <thead>
                <tr>
                  <th>When</th>
                  <th>What</th>
                  <th className="number">Checks</th>
                  <th className="number">Held</th>
                </tr>
              </thead>
              <tbody>
                <tr>
                  <td />
                  <td>Held at the beginning</td>
                  <td />
                  <td className="number">{number(s.before)}</td>
                </tr>
                {s.lines.map((l, i) => (
                  <tr key={i}>
                    <td className="when">{moment(l.at)}</td>
                    <td>{l.says}</td>
                    <td className="number">{l.amount > 0 ? `+${number(l.amount)}` : number(l.amount)}</td>
                    <td className="number">{number(l.balance)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Scroll>
          <p className="quiet">
            What is held is available or set aside for runs that go on. Checks that were set aside and given back do not
            change it.
          </p>
        </>
      )}
    </section>
  );
}

/** lately returns the last twelve months, this one first. */
function lately() {
  return Array.from({ length: 12 }, (_, i) => {
    const at = new Date();
    at.setDate(1);
    at.setMonth(at.getMonth() - i);
    return {
      value: `${at.getFullYear()}-${String(at.getMonth() + 1).padStart(2, "0")}`,
      label: at.toLocaleDateString(undefined, { month: "long", year: "numeric" }),
    };
  });
}
