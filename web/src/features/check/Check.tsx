import { Button, Input } from "antd";
import { type FormEvent, useEffect, useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { type Evidence, events, type Schema } from "../../api/client";
import { AddressText } from "../../parts/AddressText";
import { Copy } from "../../parts/Copy";
import { Found } from "../../parts/Found";
import { Wait } from "../../parts/Notice";
import { tones } from "../../words";

type Passed = Schema<"Passed">;
const stages: Passed["stage"][] = ["syntax", "domain", "exchanger", "mailbox"];

/**
 * Check checks one address now, stage by stage. The address is behind the # of the page's own, so that the page can be
 * passed on and read again, and the address is sent in no URL.
 */
export function Check() {
  const here = useLocation();
  const go = useNavigate();
  const asked = decodeURIComponent(here.hash.slice(1));
  const [typed, setTyped] = useState(asked);
  const [turn, setTurn] = useState(0);
  const check = (e: FormEvent) => {
    e.preventDefault();
    setTurn((n) => n + 1);
    if (typed.trim()) void go({ hash: encodeURIComponent(typed.trim()) });
  };
  return (
    <>
      <h1>Check an address</h1>
      <p>Its form, its domain, its mail host and its mailbox, now. No message is sent to anybody.</p>
      <form className="add" onSubmit={check}>
        <Input
          aria-label="Address"
          autoFocus
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
          placeholder="ada.moss@fernhollow.example"
        />
        <Button type="primary" htmlType="submit" disabled={!typed.trim()}>
          Check it
        </Button>
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
    void events<Schema<"StageEvent"> | Schema<"EvidenceEvent">>(
      "/checks/events",
      { address },
      (e) => (e.event === "stage" ? setPassed((old) => [...old, e.data]) : setEvidence(e.data)),
      leaving.signal,
    ).catch(() => {
      if (!leaving.signal.aborted) setBroken(true);
    });
    return () => leaving.abort();
  }, [address]);
  return (
    <>
      <Stages passed={passed} evidence={evidence} />
      {broken && !evidence && <p role="alert">The check broke off. Check it again in a moment.</p>}
      {!evidence && !broken && <Wait for={`the mail host of ${address}`} />}
      {evidence && (
        <section>
          <h2>
            <AddressText text={evidence.typed} /> <Copy text={evidence.typed} what="the address" />
          </h2>
          <Found e={evidence} />
        </section>
      )}
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
        const state = evidence
          ? i < end || evidence.finding === "deliverable"
            ? "passed"
            : i === end
              ? "spoke"
              : "unreached"
          : i < end
            ? "passed"
            : i === end
              ? "asked"
              : "unreached";
        const says = { passed: "passed", spoke: evidence?.title, asked: "being asked", unreached: "not reached" }[
          state
        ];
        return (
          <li key={s} className={state === "spoke" && evidence ? `spoke by-${tones[evidence.finding]}` : state}>
            <strong>{s}</strong>
            <span>{evidence?.finding === "deliverable" && i === end ? evidence.title : says}</span>
          </li>
        );
      })}
    </ol>
  );
}
