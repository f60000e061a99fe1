import { Link } from "react-router";
import type { Evidence } from "../api/client";
import { moment, number } from "../words";
import { AddressText } from "./AddressText";
import { DecisionMark } from "./DecisionMark";
import { When } from "./When";

/** Found tells all that was seen of one address, in the order in which it was seen. */
export function Found({ e }: { e: Evidence }) {
  return (
    <div className="evidence">
      <p className="sentence">
        <DecisionMark decision={e.decision} />
        {e.overridden && ", overridden by a person"}: {e.finding}. {e.title}.
      </p>
      <p>
        {e.meaning} {e.advice}
      </p>
      <OddsOf e={e} />
      <ol className="timeline">
        <li>
          <h3>{e.ordinal > 0 ? "In the file" : "Typed"}</h3>
          <p>
            {e.line ? `Line ${number(e.line)}: ` : ""}
            <AddressText text={e.typed} />
          </p>
          {e.problem && <p>{e.problem}</p>}
          {e.mended?.map((m) => (
            <p key={m}>Cleaned up: {m}.</p>
          ))}
          {e.suggestion && (
            <p>
              Perhaps <AddressText text={e.suggestion} /> was meant.
            </p>
          )}
          {e.traits.length > 0 && <p>Traits: {e.traits.join(", ")}.</p>}
        </li>
        {e.dns && <NameService dns={e.dns} operator={e.operator} />}
        {e.asked?.map((a, i) => (
          <Asked key={i} asked={a} />
        ))}
        {e.acceptance?.madeUp && <MadeUp acceptance={e.acceptance} says={e.acceptanceSays} />}
        {e.history && <History history={e.history} />}
      </ol>
    </div>
  );
}

/** OddsOf tells the odds, and what made them so step by step. */
function OddsOf({ e }: { e: Evidence }) {
  const steps = e.factors.map((f, i) => {
    const before = e.factors.slice(0, i).reduce((odds, g) => odds * g.times, 1);
    return { ...f, before, odds: before * f.times };
  });
  return (
    <>
      <p>
        A message sent now would be delivered with odds of about <b>{Math.round(e.odds * 100)} in 100</b>.
      </p>
      {e.odds > 0 && (
        <table className="factors">
          <tbody>
            {steps.map((f, i) => (
              <tr key={f.what}>
                <td className="number">{Math.round(f.odds * 100)}</td>
                <td>{i > 0 && (f.odds > f.before ? "▲" : "▼")}</td>
                <td>
                  {f.what} <span className="quiet">{f.basis && `(${f.basis})`}</span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

function NameService({ dns, operator }: { dns: NonNullable<Evidence["dns"]>; operator: string | undefined }) {
  return (
    <li>
      <h3>DNS</h3>
      {dns.answers?.map((a, i) => (
        <p key={i}>
          <AddressText text={a.name} /> {a.type}:{" "}
          {[
            ...(a.mx ?? []).map((m) => `${m.preference} ${m.host || "(none: takes no mail)"}`),
            ...(a.addrs ?? []),
          ].join(", ") ||
            a.problem ||
            a.status}
          <span className="quiet">
            {" "}
            {a.tookMs.toFixed(1)} ms{a.server && `, from ${a.server}`}
          </span>
        </p>
      ))}
      {operator && (
        <p>
          Operator: <AddressText text={operator} />.
        </p>
      )}
    </li>
  );
}

function Asked({ asked: a }: { asked: NonNullable<Evidence["asked"]>[number] }) {
  const c = a.conversation;
  return (
    <li>
      <h3>
        {a.letter ? "A letter to it" : "The mail host"}, {moment(a.at)}
      </h3>
      {c && (
        <p>
          <AddressText text={c.exchanger} />{" "}
          <span className="quiet">
            ({c.addr}
            {c.encrypted && ", encrypted"}), asked as <AddressText text={c.identity.name} />
            {c.route && c.route !== "direct" && (
              <>
                {" "}
                by <AddressText text={c.route} />
              </>
            )}
          </span>
        </p>
      )}
      {a.reply ? (
        <blockquote>
          <AddressText text={a.reply} long={600} />
        </blockquote>
      ) : (
        !a.letter && <p>It gave no answer about this mailbox.</p>
      )}
      <p>
        {a.why} <span className="quiet">{a.tookMs > 0 && `After ${a.tookMs.toFixed(1)} ms.`}</span>
      </p>
      {c?.lines && c.lines.length > 0 && (
        <details>
          <summary>The conversation around it</summary>
          {c.lines.map((l, i) => (
            <p key={i} className={`line ${l.host ? "host" : "we"}`}>
              <span className="quiet">{l.host ? "host" : "we"}</span> <AddressText text={l.text} long={600} />
            </p>
          ))}
          {c.ended && (
            <p className="quiet">
              It ended early: <AddressText text={c.ended} long={600} />
            </p>
          )}
        </details>
      )}
    </li>
  );
}

/** History is what other runs found of the same address. */
function History({ history }: { history: NonNullable<Evidence["history"]> }) {
  return (
    <li>
      <h3>What other runs found</h3>
      <ul className="history">
        {history.map((p) => (
          <li key={p.runId}>
            <When at={p.at} />: {p.finding}, {p.title.toLowerCase()}{" "}
            <span className="quiet">
              (<Link to={`/runs/${p.runId}`}>run {p.runId}</Link> of <bdi>{p.listName}</bdi>)
            </span>
          </li>
        ))}
      </ul>
    </li>
  );
}

function MadeUp({ acceptance, says }: { acceptance: NonNullable<Evidence["acceptance"]>; says: string | undefined }) {
  const all = acceptance.madeUp ?? [];
  const told = all.filter((m) => /^[25]/.test(m.reply ?? ""));
  return (
    <li>
      <h3>What it said of made-up mailboxes</h3>
      {told.map((m) => (
        <p key={m.mailbox}>
          <AddressText text={m.mailbox} />
          <br />
          <AddressText text={m.reply || "no answer"} long={400} />
        </p>
      ))}
      {told.length < all.length && (
        <p className="quiet">
          {all.length - told.length}
          {told.length > 0 && " more"} got no answer that tells.
        </p>
      )}
      <p>{says}</p>
    </li>
  );
}
