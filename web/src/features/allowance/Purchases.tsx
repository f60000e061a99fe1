import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox, InputNumber } from "antd";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { number, plural } from "../../words";
import { Ask } from "../account/Door";
import { Buyer, empty } from "./Buyer";
import { Price, usePrice } from "./Price";
import { type Allowance, money, type Plan, type Purchase, useAllowance, usePurchases } from "./queries";

/** Purchases shows the plan, buys checks, and sets what is bought automatically. */
export function Purchases() {
  const allowance = useAllowance();
  const purchases = usePurchases();
  const error = allowance.error ?? purchases.error;
  if (error) return <Trouble error={error} again={() => void allowance.refetch()} />;
  if (!allowance.data || !purchases.data) return <Wait for="plan and purchases" />;
  const a = allowance.data;
  if (!a.kept || !a.plan)
    return (
      <>
        <h1>Plans and purchases</h1>
        <p>No allowance is kept of this workspace: it may check as much as it likes, and pays nothing.</p>
      </>
    );
  return (
    <>
      <h1>Plans and purchases</h1>
      <Sentence>{a.says}</Sentence>
      <div className="halves even">
        <Terms plan={a.plan} />
        {a.canBuy ? (
          <Buy of={a} />
        ) : (
          <section>
            <h2>Buy checks</h2>
            <p>Nothing can be bought here. An owner of the installation grants checks.</p>
          </section>
        )}
      </div>
      {purchases.data.length > 0 && <Bought of={purchases.data} />}
      <ByItself key={JSON.stringify([a.low, a.refill, a.subscription, a.buyer, a.method])} of={a} />
    </>
  );
}

function Terms({ plan }: { plan: Plan }) {
  const cost = (n: number) => (n === 0 ? "nothing" : plural(n, "check"));
  const steps = plan.steps ?? [];
  return (
    <section>
      <h2>
        Plan “<bdi>{plan.name}</bdi>”
      </h2>
      <ul>
        {plan.grant > 0 && (
          <li>
            {plural(plan.grant, "check")} each month, {kept(plan.keep)}.
          </li>
        )}
        <li>
          A finding of the mail hosts costs {cost(plan.mailboxCost)}, one of DNS {cost(plan.domainCost)}, one of the
          form of the address {cost(plan.syntaxCost)}. What comes undecided, duplicates and reused results cost nothing.
        </li>
        {plan.urgent > 0 && <li>Urgent runs go before others, at {plan.urgent} times the cost.</li>}
        {plan.estimatesADay > 0 && <li>{plural(plan.estimatesADay, "quick estimate")} a day, free.</li>}
      </ul>
      {steps.length > 0 && (
        <table className="rows">
          <thead>
            <tr>
              <th>Of the checks of a purchase</th>
              <th className="number">a thousand cost</th>
            </tr>
          </thead>
          <tbody>
            {steps.map((s, i) => (
              <tr key={s.upTo}>
                <td>
                  {i === 0 ? "the first" : `those from ${number(steps[i - 1]!.upTo + 1)}`}
                  {s.upTo > 0 ? ` up to ${number(s.upTo)}` : i === 0 ? " and all others" : " on"}
                </td>
                <td className="number">{money(plan.currency ?? "", plan.digits ?? 2, s.perThousand)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

const kept = (months: number) => (months === 0 ? "kept without limit" : `kept for ${plural(months, "month")}`);

/** Buy buys exactly as many checks as are wanted, and goes to the provider's page. */
function Buy({ of: a }: { of: Allowance }) {
  const [search] = useSearchParams();
  const client = useQueryClient();
  const [checks, setChecks] = useState<number | null>(Number(search.get("checks")) || 10_000);
  const [remember, setRemember] = useState(false);
  const [buyer, setBuyer] = useState(a.buyer ?? empty);
  const list = Number(search.get("list")) || 0;
  const price = usePrice(checks, false, buyer);
  const buy = useMutation({
    mutationFn: async () => {
      if (JSON.stringify(buyer) !== JSON.stringify(a.buyer)) {
        const { low, refill, subscription } = a;
        const body = { low, subscription, buyer, ...(refill && { refill }) };
        client.setQueryData(["allowance"], told(await api.PUT("/allowance", { body })));
      }
      return told(await api.POST("/purchases", { body: { checks: checks ?? 0, remember, ...(list && { list }) } }));
    },
    onSuccess: (p) => p.page && location.assign(p.page),
  });
  return (
    <section>
      <h2>Buy checks</h2>
      <Ask
        act={price.data ? `Pay ${price.data.says}` : "Pay"}
        onSend={() => buy.mutate()}
        busy={buy.isPending}
        error={buy.error}
        ready={price.data !== undefined && buyer.name !== "" && buyer.country.length === 2}
      >
        <div className="asked">
          <label>
            Checks
            <InputNumber<number>
              min={1}
              max={1_000_000_000}
              precision={0}
              controls={false}
              value={checks}
              onChange={setChecks}
              style={{ width: 180 }}
            />
          </label>
          <Price of={price} />
          <Buyer of={buyer} set={setBuyer} />
          <Checkbox checked={remember} onChange={(e) => setRemember(e.target.checked)}>
            Store the payment method at the provider, for refills and a subscription
          </Checkbox>
        </div>
      </Ask>
    </section>
  );
}

const states: Record<Purchase["state"], string> = {
  open: "waits for its payment",
  paid: "paid",
  refused: "refused",
  "paid back": "paid back",
  "charged back": "charged back",
};

function Bought({ of }: { of: Purchase[] }) {
  return (
    <section>
      <h2>Purchases</h2>
      <Scroll label="Purchases">
        <table className="rows">
          <thead>
            <tr>
              <th>Ordered</th>
              <th>By</th>
              <th className="number">Checks</th>
              <th className="number">Total</th>
              <th>State</th>
              <th>Papers</th>
            </tr>
          </thead>
          <tbody>
            {of.map((p) => (
              <tr key={p.id}>
                <td>
                  <When at={p.madeAt} />
                </td>
                <td>{p.why === "top-up" ? "a person" : p.why}</td>
                <td className="number">{number(p.checks)}</td>
                <td className="number">{p.says}</td>
                <td>
                  {states[p.state]}
                  {p.reason && `: ${p.reason}`}
                  {p.withdrawn > 0 && `, ${plural(p.withdrawn, "check")} taken back`}{" "}
                  {p.page && (p.state === "open" || p.state === "refused") && <a href={p.page}>Pay</a>}
                </td>
                <td>
                  {p.invoice && (
                    <a href={`/api/v1/purchases/${p.id}/invoice`} download>
                      Invoice {p.invoice}
                    </a>
                  )}{" "}
                  {p.creditNote && (
                    <a href={`/api/v1/purchases/${p.id}/invoice?credit=true`} download>
                      Credit note {p.creditNote}
                    </a>
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

/** ByItself sets when it is told that few are left, the refill and the subscription. */
function ByItself({ of: a }: { of: Allowance }) {
  const client = useQueryClient();
  const [low, setLow] = useState<number | null>(a.low || null);
  const [refill, setRefill] = useState<Partial<Schema<"Refill">>>(a.refill ?? {});
  const [subscription, setSubscription] = useState<number | null>(a.subscription || null);
  const price = usePrice(subscription, true);
  const kept = (next: Allowance) => client.setQueryData(["allowance"], next);
  const save = useMutation({
    mutationFn: async () => {
      const { under, buy, most } = refill;
      return told(
        await api.PUT("/allowance", {
          body: {
            low: low ?? 0,
            subscription: subscription ?? 0,
            ...(a.buyer && { buyer: a.buyer }),
            ...(under && buy && { refill: { under, buy, most: most ?? 1 } }),
          },
        }),
      );
    },
    onSuccess: kept,
  });
  const forget = useMutation({ mutationFn: async () => told(await api.DELETE("/allowance/method")), onSuccess: kept });
  const stored = Boolean(a.method && a.buyer);
  return (
    <section>
      <h2>Automatic purchases</h2>
      <Ask act="Save" onSend={() => save.mutate()} busy={save.isPending} error={save.error}>
        <div className="halves">
          <section className="asked">
            <Whole label="Tell when fewer checks are left than" value={low} set={setLow} none="never" />
            {stored ? (
              <p>
                It is paid by <bdi>{a.method}</bdi>.{" "}
                <Button size="small" onClick={() => forget.mutate()} loading={forget.isPending}>
                  Forget this payment method
                </Button>
              </p>
            ) : (
              a.canBuy && (
                <p className="quiet">
                  Refills and a subscription need a stored payment method: buy once, and store it.
                </p>
              )
            )}
            {forget.error && <Trouble error={forget.error} />}
          </section>
          {stored && (
            <section className="asked">
              <div className="beside">
                <Whole
                  label="Refill under"
                  value={refill.under}
                  set={(under) => setRefill({ ...refill, under: under ?? undefined })}
                  none="never"
                />
                <Whole
                  label="Buy"
                  value={refill.buy}
                  set={(buy) => setRefill({ ...refill, buy: buy ?? undefined })}
                  none="none"
                />
                <Whole
                  label="Times in 30 days at most"
                  value={refill.most}
                  set={(most) => setRefill({ ...refill, most: most ?? undefined })}
                  none="1"
                />
              </div>
              <Whole label="Subscription: checks each month" value={subscription} set={setSubscription} none="none" />
              {subscription ? <Price of={price} /> : null}
              <p className="quiet">
                A subscription begins with a first month at once, and ends when you take it away; what was bought stays.
                A letter tells of each purchase. <Link to="/notices/letters">Letters</Link>
              </p>
            </section>
          )}
        </div>
      </Ask>
    </section>
  );
}

/** Whole is a field for a number of checks, or for none. */
function Whole({
  label,
  value,
  set,
  none,
}: {
  label: string;
  value: number | null | undefined;
  set: (n: number | null) => void;
  none: string;
}) {
  return (
    <label>
      {label}
      <InputNumber<number>
        min={1}
        max={1_000_000_000}
        precision={0}
        controls={false}
        placeholder={none}
        value={value ?? null}
        onChange={set}
        style={{ width: 160 }}
      />
    </label>
  );
}
