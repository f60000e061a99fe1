import { useQuery } from "@tanstack/react-query";
import { Button, Input, InputNumber } from "antd";
import { useState } from "react";
import { api, items } from "../../api/client";
import { ActsHead } from "../../parts/ActsHead";
import { Trouble } from "../../parts/Notice";
import { type SendingSide, useOutboundChange } from "./queries";

/** Operators shows how fast each is asked and what pace has learnt. */
export function Operators({ side }: { side: SendingSide }) {
  const [search, setSearch] = useState("");
  const list = useQuery({
    queryKey: ["operators", search],
    placeholderData: (old) => old,
    queryFn: async () => items(await api.GET("/outbound/operators", { params: { query: { search, limit: 20 } } })),
  });
  const forget = useOutboundChange("forget");
  const cap = useOutboundChange("cap");
  const error = list.error ?? forget.error ?? cap.error;
  return (
    <section aria-label="Pace">
      <h2>Pace</h2>
      <p className="quiet">{side.pace.note}</p>
      <div className="settle">
        <label>
          Most sessions at a time with one operator by one route
          <InputNumber
            aria-label="Sessions at a time, at most"
            controls={false}
            min={1}
            max={20}
            value={side.pace.cap}
            onChange={(n) => n && cap.mutate(n)}
          />
        </label>
        <label>
          Part of an operator's name
          <Input type="search" value={search} onChange={(e) => setSearch(e.target.value)} />
        </label>
      </div>
      {error && <Trouble error={error} />}
      {list.data?.length === 0 && <p>Nothing has been learnt yet{search && " about such an operator"}.</p>}
      {list.data && list.data.length > 0 && (
        <div className="scroll">
          <table className="rows">
            <thead>
              <tr>
                <th>Operator</th>
                <th>Route</th>
                <th>How it is treated now</th>
                <ActsHead />
              </tr>
            </thead>
            <tbody>
              {list.data.map((o) => (
                <tr key={o.operator + o.route}>
                  <td>{o.operator}</td>
                  <td className="part-name">{o.route}</td>
                  <td>{o.says}</td>
                  <td>
                    <Button size="small" onClick={() => forget.mutate(o.operator)}>
                      Forget<span className="unseen"> what was learnt about {o.operator}</span>
                    </Button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
