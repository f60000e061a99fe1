import { Button, Popconfirm } from "antd";
import { Link } from "react-router";
import type { Schema } from "../../api/client";
import { AddressText } from "../../parts/AddressText";
import { Sentence, Trouble } from "../../parts/Notice";
import { day, moment, number, plural } from "../../words";
import { useFile, useOrder } from "./queries";

/** Held shows all that is held about an address, and what can be done about it. */
export function Held({ of: h, again }: { of: Schema<"Held">; again: () => void }) {
  const file = useFile(h.address);
  const order = useOrder(h.address);
  const error = file.error ?? order.error;
  const nothing =
    h.lists.length + h.letters.length + h.elsewhere.length === 0 && !h.outcome && !h.absent && !h.activity;
  const send = (kind: "erase" | "allow") => order.mutate(kind, { onSuccess: again });
  return (
    <section>
      <h2>
        <AddressText text={h.address} />
      </h2>
      <Sentence>{h.says}</Sentence>
      {order.data && <p role="status">{order.data.says}</p>}
      {error && <Trouble error={error} />}
      <span className="acts">
        <Button onClick={() => file.mutate("text")} loading={file.isPending}>
          File for the person
        </Button>
        <Button onClick={() => file.mutate("json")}>The same as JSON</Button>
        {h.erasedAt && <Button onClick={() => send("allow")}>Allow it again</Button>}
        {!(h.erasedAt && nothing) && (
          <Popconfirm
            title="Erase this address?"
            description="Its rows become blank and its results are deleted, for good. It is neither kept nor asked about when it comes again."
            okText="Erase it for good"
            cancelText="Keep it"
            onConfirm={() => send("erase")}
          >
            <Button loading={order.isPending}>Erase it</Button>
          </Popconfirm>
        )}
      </span>
      <div className="held">
        {h.lists.map((l) => (
          <InList key={l.id} of={l} />
        ))}
      </div>
      <Messages of={h} />
      {h.elsewhere.length > 0 && (
        <>
          <h3>Named elsewhere</h3>
          <ul>
            {h.elsewhere.map((e) => (
              <li key={e.place}>
                {e.place}: {plural(e.records, "record")}
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}

/** InList shows the rows of a list that hold the address, and what its runs found. */
function InList({ of: l }: { of: Schema<"HeldList"> }) {
  const more = l.rowsAll - l.rows.length;
  return (
    <section>
      <h3>
        <bdi>{l.name}</bdi>
      </h3>
      <p>
        Imported {day(l.at)} as <Link to={`/lists/${l.id}`}>list {l.id}</Link>.
      </p>
      {l.override && <p>A person decided to {l.override} it, whatever is found.</p>}
      {l.rows.map((r) => (
        <div key={r.line}>
          <h4>
            Line {number(r.line)}
            {!r.own && ", the row of somebody else"}
          </h4>
          <dl>
            {r.cells
              .filter((c) => c.text !== "")
              .map((c) => (
                <div key={c.column}>
                  <dt>{c.column}</dt>
                  <dd>
                    <AddressText text={c.text} long={300} />
                  </dd>
                </div>
              ))}
          </dl>
        </div>
      ))}
      {more > 0 && <p>And {plural(more, "more row")}.</p>}
      {l.results.map((r) => (
        <div key={`${r.runId} ${r.at}`}>
          <p>
            <Link to={`/runs/${r.runId}`}>Run {r.runId}</Link>, {day(r.at)}: {r.finding}. {r.title}.
          </p>
          {r.said.map((s, i) => (
            <blockquote key={i}>
              <AddressText text={s.reply} long={400} />
            </blockquote>
          ))}
        </div>
      ))}
    </section>
  );
}

/** Messages shows the mailings that went to the address, and what is remembered of it apart from lists. */
function Messages({ of: h }: { of: Schema<"Held"> }) {
  if (h.letters.length === 0 && !h.outcome && !h.absent && !h.activity) return null;
  return (
    <>
      <h3>Messages</h3>
      <ul>
        {h.letters.map((m, i) => (
          <li key={i}>
            “<bdi>{m.mailing}</bdi>”, sent {day(m.sentAt)}: {m.outcome || "nothing came back"}.{" "}
            {m.words && <AddressText text={m.words} long={300} />}
          </li>
        ))}
        {h.outcome && (
          <li>
            Remembered: {h.outcome.outcome}, {moment(h.outcome.at)}.
          </li>
        )}
        {h.absent && <li>Its mailbox was found absent {day(h.absent)}.</li>}
        {h.activity && (
          <li>
            Last active {day(h.activity.at)}: {h.activity.kind}, from <bdi>{h.activity.source}</bdi>.
          </li>
        )}
      </ul>
    </>
  );
}
