import { Button, Input } from "antd";
import { useEffect, useState, type FormEvent } from "react";
import { useSearchParams } from "react-router";
import { events, type Evidence, type Schema } from "../../api/client";
import { AddressText } from "../../parts/AddressText";
import { Copy } from "../../parts/Copy";
import { Found } from "../../parts/Found";
import { Wait } from "../../parts/Notice";
import { tones } from "../../words";

type Passed = Schema<"Passed">;
const stages: Passed["stage"][] = ["syntax", "domain", "exchanger", "mailbox"];

/** Check checks one address now, stage by stage. Its place names the address, so it can be passed on. */
export function Check() {
  const [search, setSearch] = useSearchParams();
  const asked = search.get("address") ?? "";
  const [typed, setTyped] = useState(asked);
  const [turn, setTurn] = useState(0);
  const check = (e: FormEvent) => {
    e.preventDefault();
    setTurn((n) => n + 1);
    if (typed.trim()) setSearch({ address: typed.trim() });
  };
  return (
    <>
      <h1>Check an address</h1>
      <p>Its form, its domain, its mail host and its mailbox, now. No message is sent to anybody.</p>
      <form className="add" onSubmit={check}>
        <Input aria-label="Address" autoFocus value={typed} onChange={(e) => setTyped(e.target.value)} placeholder="ada.moss@fernhollow.example" />
        <Button type="primary" htmlType="submit" disabled={!typed.trim()}>Check it</Button>
      </form>
      {asked && <Checking key={asked + turn} address={asked} />}
    </>
  );
}

function Checking({ address }: { address: string }) {
  const [passed, setPassed] = useState<Passed[]>([]);
  const [evidence, setEvidence] = useState<Evidence>();
  const [broken, setBroken] = useState(false);
  useEffect(() => {
    const leaving = new AbortController();
    void events("/checks/events", { address }, { stage: (p: Passed) => setPassed((old) => [...old, p]), evidence: (e: Evidence) => setEvidence(e) }, leaving.signal)
      .catch(() => { if (!leaving.signal.aborted) setBroken(true); });
    return () => leaving.abort();
  }, [address]);
  return (
    <>
      <Stages passed={passed} evidence={evidence} />
      {broken && !evidence && <p role="alert">The check broke off. Check it again in a moment.</p>}
      {!evidence && !broken && <Wait for={`the mail host of ${address}`} />}
      {evidence && <section><h2><AddressText text={evidence.typed} /> <Copy text={evidence.typed} what="the address" /></h2><Found e={evidence} /></section>}
    </>
  );
}

/** Stages light up as the address passes them; the one that spoke last says the finding. */
function Stages({ passed, evidence }: { passed: Passed[]; evidence: Evidence | undefined }) {
  const last = evidence ? evidence.cause.split(".")[0]! : undefined;
  const end = last === undefined ? passed.length : stages.indexOf(last as Passed["stage"]);
  return (
    <ol className="stages" aria-label="Stages">
      {stages.map((s, i) => {
        const state = evidence ? (i < end || evidence.finding === "deliverable" ? "passed" : i === end ? "spoke" : "unreached") : i < end ? "passed" : i === end ? "asked" : "unreached";
        const says = { passed: "passed", spoke: evidence?.title, asked: "being asked", unreached: "not reached" }[state];
        return <li key={s} className={state === "spoke" && evidence ? `spoke by-${tones[evidence.finding]}` : state}><strong>{s}</strong><span>{evidence?.finding === "deliverable" && i === end ? evidence.title : says}</span></li>;
      })}
    </ol>
  );
}
