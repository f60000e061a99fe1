import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, InputNumber, Select } from "antd";
import { useState } from "react";
import { api, items, told } from "../../api/client";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { number } from "../../words";
import { Billing } from "./Billing";
import { Plans } from "./Plans";
import { type Account, type Plan, useAccounts, usePlans } from "./queries";

/** Accounts keeps the allowances of all workspaces: plans, grants, payment, and the trial balance. */
export function Accounts() {
  const accounts = useAccounts();
  const plans = usePlans();
  const error = accounts.error ?? plans.error;
  if (error) return <Trouble error={error} again={() => void accounts.refetch()} />;
  if (!accounts.data || !plans.data) return <Wait for="the accounts" />;
  return (
    <>
      <h1>Accounts</h1>
      <Book />
      <Scroll label="Accounts">
        <table className="rows">
          <thead>
            <tr>
              <th>Workspace</th>
              <th>Plan</th>
              <th className="number">Available</th>
              <th className="number">Set aside</th>
              <th className="number">Used in 30 days</th>
              <th>Give checks, or with a minus sign take some away</th>
            </tr>
          </thead>
          <tbody>
            {accounts.data.map((a) => (
              <Row key={a.workspaceId} of={a} plans={plans.data} />
            ))}
          </tbody>
        </table>
      </Scroll>
      <Plans of={plans.data} />
      <Billing />
      <Sold />
    </>
  );
}

/** Book says whether the book is right. */
function Book() {
  const book = useQuery({
    queryKey: ["ledger"],
    queryFn: async () => told(await api.GET("/installation/ledger")),
  });
  if (book.error) return <Trouble error={book.error} again={() => void book.refetch()} />;
  if (!book.data) return <Wait for="the trial balance" />;
  return (
    <>
      <p className="sentence">{book.data.says}</p>
      {book.data.entries > 0 && (
        <p>{book.data.balances.map((b) => `${b.account} ${number(b.balance)}`).join(", ")}; together 0.</p>
      )}
    </>
  );
}

function Row({ of: a, plans }: { of: Account; plans: Plan[] }) {
  const client = useQueryClient();
  const [checks, setChecks] = useState<number | null>(null);
  const [note, setNote] = useState("");
  const changed = (page: { items: Account[] }) => {
    client.setQueryData(["accounts"], page.items);
    for (const key of [["ledger"], ["plans"], ["allowance"]]) void client.invalidateQueries({ queryKey: key });
  };
  const params = { path: { id: a.workspaceId } };
  const plan = useMutation({
    mutationFn: async (planId: number) =>
      told(await api.PUT("/installation/accounts/{id}", { params, body: { planId } })),
    onSuccess: changed,
  });
  const grant = useMutation({
    mutationFn: async () =>
      told(await api.POST("/installation/accounts/{id}/grants", { params, body: { checks: checks ?? 0, note } })),
    onSuccess: (page) => {
      changed(page);
      setChecks(null);
      setNote("");
    },
  });
  const error = plan.error ?? grant.error;
  return (
    <tr>
      <td>
        <bdi>{a.workspace}</bdi>
        {error && <Trouble error={error} />}
      </td>
      <td>
        <Select<number>
          aria-label={`Plan of ${a.workspace}`}
          value={a.planId ?? 0}
          loading={plan.isPending}
          onChange={(id) => plan.mutate(id)}
          style={{ minWidth: 180 }}
          options={[
            { value: 0, label: "none: as much as it likes" },
            ...plans.map((p) => ({ value: p.id ?? 0, label: p.name })),
          ]}
        />
      </td>
      <td className="number">{a.kept && number(a.available)}</td>
      <td className="number">{a.kept && number(a.reserved)}</td>
      <td className="number">{a.kept && number(a.usedLately)}</td>
      <td>
        {a.kept && (
          <span className="row-acts">
            <InputNumber<number>
              aria-label={`Checks for ${a.workspace}`}
              precision={0}
              controls={false}
              value={checks}
              onChange={setChecks}
              style={{ width: 110 }}
            />
            <input
              className="field"
              aria-label={`What for, for ${a.workspace}`}
              placeholder="what for"
              value={note}
              maxLength={200}
              onChange={(e) => setNote(e.target.value)}
            />
            <Button disabled={!checks} onClick={() => grant.mutate()} loading={grant.isPending}>
              Give
            </Button>
          </span>
        )}
      </td>
    </tr>
  );
}

/** Sold are the purchases of all workspaces. */
function Sold() {
  const client = useQueryClient();
  const sold = useQuery({
    queryKey: ["sold"],
    queryFn: async () => items(await api.GET("/installation/purchases", { params: { query: { limit: 50 } } })),
  });
  const back = useMutation({
    mutationFn: async (id: number) =>
      told(await api.POST("/installation/purchases/{id}/pay-back", { params: { path: { id } } })),
    onSettled: () => setTimeout(() => void client.invalidateQueries({ queryKey: ["sold"] }), 1000),
  });
  if (!sold.data || sold.data.length === 0) return null;
  return (
    <section>
      <h2>Purchases of all workspaces</h2>
      {back.error && <Trouble error={back.error} />}
      <Scroll label="Purchases of all workspaces">
        <table className="rows">
          <thead>
            <tr>
              <th>Purchase</th>
              <th>Workspace</th>
              <th>Ordered</th>
              <th className="number">Checks</th>
              <th className="number">Total</th>
              <th>State</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {sold.data.map((p) => (
              <tr key={p.id}>
                <td>{p.id}</td>
                <td>{p.workspaceId}</td>
                <td>
                  <When at={p.madeAt} />
                </td>
                <td className="number">{number(p.checks)}</td>
                <td className="number">{p.says}</td>
                <td>{p.state}</td>
                <td>
                  {p.state === "paid" && (
                    <Button size="small" onClick={() => back.mutate(p.id)}>
                      Pay back
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </section>
  );
}
