import { type UseMutationResult, useQuery } from "@tanstack/react-query";
import { Button, Input, InputNumber, Select } from "antd";
import { useState } from "react";
import { api, told } from "../../api/client";
import { Trouble } from "../../parts/Notice";
import { type Part, type Rule, type SaidRule, type SendingSide, useOutboundChange } from "./queries";

/** Rules are whom to ask and how: the first that fits an address counts. */
export function Rules({ side }: { side: SendingSide }) {
  const change = useOutboundChange("rules");
  return (
    <section aria-label="Rules">
      <h2>Rules</h2>
      <RuleList rules={side.rules} parts={side.parts} whats={whats} change={change} />
      <Try />
    </section>
  );
}

type Change = Pick<UseMutationResult<unknown, Error, Rule[]>, "mutate" | "error" | "isPending">;

/** RuleList shows rules in their order and changes them; others sees them alone. */
export function RuleList({
  rules: said,
  parts,
  whats,
  change,
  may = true,
}: {
  rules: SaidRule[];
  parts: Part[];
  whats: What[];
  change: Change;
  may?: boolean;
}) {
  const rules: Rule[] = said.map(({ says: _, ...rule }) => rule);
  const without = (i: number) => rules.filter((_, j) => j !== i);
  const earlier = (i: number) => rules.map((r, j) => (j === i - 1 ? rules[i]! : j === i ? rules[i - 1]! : r));
  return (
    <>
      <p className="quiet">Tried in this order; the first rule that matches an address counts.</p>
      {rules.length === 0 && <p>There are none: everybody is asked alike.</p>}
      <ol className="parts">
        {said.map((r, i) => (
          <li key={r.says + i}>
            <div className="title">
              <span>
                {i + 1}. {r.says} {r.note && <span className="quiet">{r.note}</span>}
              </span>
              {may && (
                <span className="acts">
                  {i > 0 && (
                    <Button size="small" onClick={() => change.mutate(earlier(i))}>
                      Earlier<span className="unseen">: rule {i + 1}</span>
                    </Button>
                  )}
                  <Button size="small" onClick={() => change.mutate(without(i))}>
                    Remove<span className="unseen"> rule {i + 1}</span>
                  </Button>
                </span>
              )}
            </div>
          </li>
        ))}
      </ol>
      {change.error && <Trouble error={change.error} />}
      {may && (
        <NewRule
          parts={parts}
          whats={whats}
          onRule={(r, done) => change.mutate([...rules, r], { onSuccess: done })}
          busy={change.isPending}
        />
      )}
    </>
  );
}

type What = { value: string; label: string };

/** howFar are the things that a rule of a workspace may do. */
export const howFar: What[] = [
  { value: "never", label: "never ask" },
  { value: "syntax", label: "check the form alone" },
  { value: "domain", label: "check down to the domain" },
];

const isDepth = (what: string): what is NonNullable<Rule["depth"]> => howFar.some((h) => h.value === what);

const whats: What[] = [
  { value: "never", label: "never ask" },
  { value: "domain", label: "check down to the domain" },
  { value: "lanes", label: "at most this many at a time" },
  { value: "rest", label: "rest after each parcel" },
  { value: "route", label: "by a certain route" },
  { value: "identity", label: "as a certain identity" },
  { value: "hours", label: "at certain hours only" },
];

function NewRule({
  parts: all,
  whats,
  onRule,
  busy,
}: {
  parts: Part[];
  whats: What[];
  onRule: (r: Rule, done: () => void) => void;
  busy: boolean;
}) {
  const [of, setOf] = useState<Rule["of"]>("domain");
  const [pattern, setPattern] = useState("");
  const [what, setWhat] = useState("never");
  const [value, setValue] = useState("");
  const parts = all.filter((p) => p.kind === what);
  const rule = (): Rule => ({
    of,
    pattern,
    ...(isDepth(what)
      ? { depth: what }
      : what === "lanes" || what === "rest"
        ? { [what]: Number(value) }
        : { [what]: value }),
  });
  return (
    <form
      className="rule"
      onSubmit={(e) => {
        e.preventDefault();
        onRule(rule(), () => {
          setPattern("");
          setValue("");
        });
      }}
    >
      <Select
        aria-label="What the rule looks at"
        value={of}
        onChange={setOf}
        options={["domain", "operator", "address"].map((v) => ({ value: v as Rule["of"], label: v }))}
      />
      <Input
        aria-label="Pattern"
        placeholder="*.example"
        value={pattern}
        onChange={(e) => setPattern(e.target.value)}
      />
      <Select
        aria-label="What the rule does"
        value={what}
        onChange={(v) => {
          setWhat(v);
          setValue("");
        }}
        options={whats}
        popupMatchSelectWidth={false}
      />
      {(what === "route" || what === "identity") && (
        <Select
          aria-label="Which"
          value={value || null}
          onChange={(v) => setValue(v ?? "")}
          options={parts.map((p) => ({ value: p.name, label: p.name }))}
          popupMatchSelectWidth={false}
        />
      )}
      {(what === "lanes" || what === "rest") && (
        <InputNumber
          aria-label={what === "lanes" ? "How many" : "Seconds"}
          min={1}
          max={what === "lanes" ? 20 : 3600}
          value={value ? Number(value) : null}
          onChange={(v) => setValue(v === null ? "" : String(v))}
        />
      )}
      {what === "hours" && (
        <Input aria-label="Hours" placeholder="22:00-06:00" value={value} onChange={(e) => setValue(e.target.value)} />
      )}
      <Button htmlType="submit" loading={busy} disabled={pattern.trim() === ""}>
        Add the rule
      </Button>
    </form>
  );
}

/** Try tells which rule fits an address. */
function Try() {
  const [typed, setTyped] = useState("");
  const [address, setAddress] = useState("");
  const tried = useQuery({
    queryKey: ["outbound", "try", address],
    enabled: address !== "",
    retry: false,
    queryFn: async () => told(await api.POST("/outbound/rules/try", { body: { address } })),
  });
  return (
    <form
      className="add"
      onSubmit={(e) => {
        e.preventDefault();
        setAddress(typed.trim());
      }}
    >
      <Input
        aria-label="An address to try the rules on"
        placeholder="an address to try the rules on; its host is not asked"
        value={typed}
        onChange={(e) => setTyped(e.target.value)}
      />
      <Button htmlType="submit" loading={tried.isFetching}>
        Try
      </Button>
      {tried.error && <Trouble error={tried.error} />}
      {tried.data && <p role="status">{tried.data.says}</p>}
    </form>
  );
}
