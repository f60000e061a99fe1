import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Select } from "antd";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { For } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { Sure } from "../../parts/Sure";
import { When } from "../../parts/When";
import { number, plural } from "../../words";
import { FoundTable } from "./FoundTable";
import { Addressee, HostWords } from "./LetterCells";
import { OutcomeBar } from "./OutcomeBar";
import { useMailing } from "./queries";

/** MailingPage shows one mailing and what became of its letters. */
export function MailingPage() {
  const id = Number(useParams().id);
  const mailing = useMailing(id);
  if (mailing.error) return <Trouble error={mailing.error} again={() => void mailing.refetch()} />;
  if (!mailing.data) return <Wait for="the mailing" />;
  const m = mailing.data;
  const leaving = m.state === "exported" || (m.trial && (m.state === "preparing" || m.state === "sending"));
  return (
    <>
      <p className="path">
        <Link to="/bounces">Bounces</Link> →{" "}
        {m.runId && (
          <>
            <Link to={`/runs/${m.runId}`}>Run {m.runId}</Link> →
          </>
        )}
      </p>
      <div className="title">
        <h1>
          <bdi>{m.name}</bdi>
        </h1>
        <For scope="run">
          <Remove id={id} />
        </For>
      </div>
      <p className="sentence">{m.says}</p>
      {m.state === "exported" && <ToSend id={id} />}
      {m.trial && <Sending mailing={m} trial={m.trial} />}
      <p>
        {m.state === "exported" ? "Registered" : leaving ? "Ordered" : "Sent"} <When at={m.sentAt} />.{" "}
        {m.state === "watching" ? (
          <>
            Bounces are watched for; the watch ends <When at={m.watchUntil} />.
          </>
        ) : m.state === "closed" ? (
          <>
            The watch ended <When at={m.watchUntil} />. What had not come back by then counts as no bounce, which is a
            strong sign and not a proof.
          </>
        ) : null}
      </p>
      {!leaving && <OutcomeBar counts={m.outcomes} />}
      <h2>What had been found, and what became of it</h2>
      <FoundTable found={m.found ?? []} />
      <Letters id={id} />
    </>
  );
}

/** ToSend gives the file for a sending tool, and begins the watch. */
function ToSend({ id }: { id: number }) {
  const client = useQueryClient();
  const sent = useMutation({
    mutationFn: async () => told(await api.POST("/mailings/{id}/sent", { params: { path: { id } } })),
    onSuccess: (now) => client.setQueryData(["mailing", id], now),
  });
  return (
    <>
      <p>
        Each letter has a return address (MAIL FROM) of its own, by which its bounces are known:{" "}
        <For scope="export">
          <a href={`/api/v1/mailings/${id}/file`} download={`mailing-${id}.csv`}>
            the file for your sending tool
          </a>
        </For>
        .
      </p>
      <For scope="run">
        <Button loading={sent.isPending} onClick={() => sent.mutate()}>
          It is sent now
        </Button>
      </For>
      {sent.error && <Trouble error={sent.error} />}
    </>
  );
}

/** Sending shows where trial letters stand, and stops them. */
function Sending({ mailing: m, trial: t }: { mailing: Schema<"Mailing">; trial: Schema<"TrialProgress"> }) {
  const client = useQueryClient();
  const stop = useMutation({
    mutationFn: async () => told(await api.POST("/mailings/{id}/stop", { params: { path: { id: m.id } } })),
    onSuccess: (now) => client.setQueryData(["mailing", m.id], now),
  });
  return (
    <>
      <p>
        Trial letters: {number(t.sent)} sent, {number(t.waiting)} waiting
        {t.refused > 0 && <>, {number(t.refused)} refused by the submission server</>}
        {t.unsubscribed > 0 && <>; {plural(t.unsubscribed, "person", "people")} unsubscribed</>}.{" "}
        {m.state === "sending" && (
          <For scope="run">
            <Sure
              ask="Stop sending them?"
              says="Those that have left are watched as before."
              yes="Stop sending"
              no="Go on"
              onYes={() => stop.mutate()}
            >
              Stop sending
            </Sure>
          </For>
        )}
      </p>
      {stop.error && <Trouble error={stop.error} />}
      <details>
        <summary>The letter: {t.subject}</summary>
        <pre className="letter">{t.body}</pre>
        <p className="quiet">The right to write to these people: {t.reason}</p>
      </details>
    </>
  );
}

function Remove({ id }: { id: number }) {
  const go = useNavigate();
  const remove = useMutation({
    mutationFn: async () => told(await api.DELETE("/mailings/{id}", { params: { path: { id } } })),
    onSuccess: () => go("/bounces"),
  });
  return (
    <>
      <Sure
        ask="Delete the mailing?"
        says="Its letters go with it. What is known of their addresses stays: what bounced is not mailed again."
        yes="Delete it"
        onYes={() => remove.mutate()}
      >
        Delete the mailing
      </Sure>
      {remove.error && <Trouble error={remove.error} />}
    </>
  );
}

const kinds = ["bounced", "delayed", "complained", "no bounce", "open"] as const;
type Kind = (typeof kinds)[number];

function Letters({ id }: { id: number }) {
  const [search, setSearch] = useSearchParams();
  const outcome = (search.get("outcome") ?? "") as Kind | "";
  const letters = useInfiniteQuery({
    queryKey: ["letters-of", id, outcome],
    initialPageParam: "",
    queryFn: async ({ pageParam }) =>
      told(
        await api.GET("/mailings/{id}/letters", {
          params: {
            path: { id },
            query: { limit: 50, ...(outcome && { outcome }), ...(pageParam && { cursor: pageParam }) },
          },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
  });
  const rows = letters.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <section>
      <h2>Letters</h2>
      <Select
        aria-label="Which letters"
        value={outcome}
        onChange={(o) => setSearch(o ? { outcome: o } : {}, { replace: true })}
        options={[{ value: "" as const, label: "all" }, ...kinds.map((k) => ({ value: k, label: k }))]}
      />
      {letters.error && <Trouble error={letters.error} />}
      {letters.data && rows.length === 0 && <p>There is no such letter.</p>}
      {rows.length > 0 && (
        <Scroll label="Letters">
          <table className="rows">
            <thead>
              <tr>
                <th>Address</th>
                <th>Found before</th>
                <th>Outcome</th>
                <th>Words of the host</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((l) => (
                <tr key={l.number}>
                  <Addressee letter={l} />
                  <td>{l.finding || "nothing"}</td>
                  <td>{said(l)}</td>
                  <HostWords letter={l} />
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
      {letters.hasNextPage && (
        <Button loading={letters.isFetchingNextPage} onClick={() => void letters.fetchNextPage()}>
          More letters
        </Button>
      )}
    </section>
  );
}

function said(l: Schema<"Letter">): string {
  if (l.outcome === "open") return "nothing heard yet";
  if (l.outcome !== "bounced") return l.outcome;
  return l.permanent ? "bounced for good" : "bounced, may pass";
}
