import { Link } from "react-router";
import type { Schema } from "../../api/client";
import { For } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { number, plural, share } from "../../words";
import { FoundTable } from "./FoundTable";
import { ImportMessages } from "./ImportMessages";
import { Addressee, HostWords } from "./LetterCells";
import { OutcomeBar } from "./OutcomeBar";
import { lettersOf } from "./outcomes";
import { useMailings, useOutcomes, useReturned } from "./queries";

/** Bounces shows what became of the letters that were really sent. */
export function Bounces() {
  const outcomes = useOutcomes();
  const mailings = useMailings();
  if (outcomes.error) return <Trouble error={outcomes.error} again={() => void outcomes.refetch()} />;
  if (!outcomes.data || !mailings.data) return <Wait for="the bounces" />;
  const o = outcomes.data;
  return (
    <>
      <div className="title">
        <h1>Bounces</h1>
        <For scope="run">
          <ImportMessages />
        </For>
      </div>
      <p className="ways">
        <For scope="run">
          <Link to="/bounces/table">Import a table of a sending tool</Link>
        </For>
        <For scope="manage">
          <Link to="/bounces/sources">Mailboxes and programs</Link>
        </For>
        <Link to="/trial-letters">Trial letters</Link>
        <Link to="/odds">Odds</Link>
      </p>
      {o.letters === 0 ? (
        <Empty />
      ) : (
        <>
          <p className="sentence">{o.says}</p>
          <OutcomeBar counts={o.outcomes} />
          <Mailings mailings={mailings.data} />
          <section>
            <h2>What had been found, and what became of it</h2>
            <FoundTable found={o.found} />
          </section>
          <Unexpected letters={o.unexpected} />
          <Groups of={o.operators} title="Operators that most came back from" what="Operator" />
          <Groups of={o.domains} title="Domains that most came back from" what="Domain" />
          {o.lists.length > 1 && <Groups of={o.lists} title="Lists that most came back from" what="List" />}
        </>
      )}
      <Returned />
    </>
  );
}

function Empty() {
  return (
    <p>
      No mailing is registered yet. When you send to the kept rows of a run, register it on the run's page{" "}
      <em>Export</em>. Then bring here what comes back: a message (.eml), a mailbox (.mbox) or a zip of them. Each
      bounce finds its letter; what does not come back within 72 hours settles catch-all addresses.
    </p>
  );
}

function Mailings({ mailings }: { mailings: Schema<"Mailing">[] }) {
  return (
    <Scroll label="Mailings">
      <table className="rows">
        <thead>
          <tr>
            <th>Mailing</th>
            <th>Sent</th>
            <th>State</th>
            <th>Bounced for good</th>
            <th className="number">May pass</th>
            <th className="number">Complained</th>
          </tr>
        </thead>
        <tbody>
          {mailings.map((m) => (
            <tr key={m.id}>
              <td>
                <Link to={`/mailings/${m.id}`} className="name">
                  <bdi>{m.name}</bdi>
                </Link>
              </td>
              <td>
                <When at={m.sentAt} />
              </td>
              <td>
                {m.state === "watching" ? (
                  <>
                    watched, ends <When at={m.watchUntil} />
                  </>
                ) : (
                  m.state
                )}
              </td>
              <td>
                {number(m.outcomes.bounced)}{" "}
                <span className="quiet">{share(m.outcomes.bounced, lettersOf(m.outcomes), "letters")}</span>
              </td>
              <td className="number">{number(m.outcomes.passing + m.outcomes.delayed)}</td>
              <td className="number">{number(m.outcomes.complained)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

function Unexpected({ letters }: { letters: Schema<"Letter">[] }) {
  if (letters.length === 0) return null;
  return (
    <section>
      <h2>Bounced though they were found deliverable</h2>
      <Scroll label="Unexpected bounces">
        <table className="rows">
          <thead>
            <tr>
              <th>Address</th>
              <th>Words of the host</th>
            </tr>
          </thead>
          <tbody>
            {letters.map((l) => (
              <tr key={`${l.address} ${l.at}`}>
                <Addressee letter={l} />
                <HostWords letter={l} />
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </section>
  );
}

/** Groups shows the domains, operators or lists that most came back from. */
function Groups({ of: groups, title, what }: { of: Schema<"GroupOutcomes">[]; title: string; what: string }) {
  if (groups.length === 0) return null;
  return (
    <section>
      <h2>{title}</h2>
      <Scroll label={title}>
        <table className="rows">
          <thead>
            <tr>
              <th>{what}</th>
              <th>Bounced for good</th>
              <th className="number">May pass</th>
              <th className="number">Complained</th>
            </tr>
          </thead>
          <tbody>
            {groups.map((g) => (
              <tr key={g.listId ?? g.name}>
                <td>
                  {g.listId ? (
                    <Link to={`/lists/${g.listId}`}>
                      <bdi>{g.name}</bdi>
                    </Link>
                  ) : (
                    <bdi>{g.name || "not known"}</bdi>
                  )}
                </td>
                <td>
                  {number(g.bounced)} <span className="quiet">{share(g.bounced, g.letters, "letters")}</span>
                </td>
                <td className="number">{number(g.passing)}</td>
                <td className="number">{number(g.complained)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </section>
  );
}

function Returned() {
  const returned = useReturned();
  if (!returned.data || returned.data.length === 0) return null;
  return (
    <section>
      <h2>What came back last</h2>
      <Scroll label="Messages that came back">
        <table className="rows">
          <thead>
            <tr>
              <th>Message</th>
              <th>Kind</th>
              <th>Came in</th>
              <th>About</th>
            </tr>
          </thead>
          <tbody>
            {returned.data.map((r) => (
              <tr key={r.id}>
                <td>
                  <bdi>{r.subject || "without a subject"}</bdi>
                  <small className="quiet">
                    from <bdi>{r.sender || r.host}</bdi>
                  </small>
                </td>
                <td>{r.kind}</td>
                <td>
                  <When at={r.receivedAt} />
                </td>
                <td>{r.letters > 0 ? plural(r.letters, "letter") : r.says}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </section>
  );
}
