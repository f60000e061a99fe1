import { Button, Input, InputNumber, Switch } from "antd";
import { type FormEvent, useState } from "react";
import { api, type Schema, told } from "../../api/client";
import { Faults, Merits } from "../../parts/Checks";
import { Copy } from "../../parts/Copy";
import { Field } from "../../parts/Field";
import { For, useMay } from "../../parts/For";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { When } from "../../parts/When";
import { ServerFields } from "../letters/ServerFields";
import { useSenderChange, useTrialSender } from "./queries";

type Sender = Schema<"TrialSender">;

/** TrialLetters is by whom and how trial letters are sent: off until the owner turns them on. */
export function TrialLetters() {
  const sender = useTrialSender();
  if (sender.error) return <Trouble error={sender.error} again={() => void sender.refetch()} />;
  if (!sender.data) return <Wait for="the sender" />;
  const s = sender.data;
  return (
    <>
      <h1>Trial letters</h1>
      <Sentence>{s.says}</Sentence>
      <p>
        A trial letter settles an address of a catch-all domain: a real, signed message, in your words, to people you
        may write to. What comes back bounced; what does not come back within 72 hours is settled. Each address gets one
        letter, ever.
      </p>
      <Allowed sender={s} />
      {s.allowed && (
        <For scope="manage">
          <Form key={JSON.stringify([s.host, s.port, s.sender, s.selector, s.servers])} sender={s} />
        </For>
      )}
      {s.allowed && s.host && <Test sender={s} />}
    </>
  );
}

function Allowed({ sender: s }: { sender: Sender }) {
  const owner = useMay("team");
  const allow = useSenderChange(async (allowed: boolean) =>
    told(await api.PUT("/trial-letters/allowed", { body: { allowed } })),
  );
  return (
    <>
      <p>
        <Switch
          aria-label="Trial letters"
          checked={s.allowed}
          disabled={!owner}
          loading={allow.isPending}
          onChange={(on) => allow.mutate(on)}
        />{" "}
        {s.allowed ? `On, turned on by ${s.allowedBy}.` : "Off."}{" "}
        {!owner && <span className="quiet">The workspace’s owner turns them on and off.</span>}
      </p>
      {allow.error && <Trouble error={allow.error} />}
    </>
  );
}

const listed = (text: string) => text.split(/[\s,]+/).filter((t) => t !== "");

function Form({ sender: s }: { sender: Sender }) {
  const [server, setServer] = useState({
    host: s.host ?? "",
    port: s.port ?? 465,
    security: s.security ?? ("tls" as const),
    username: s.username ?? "",
  });
  const [password, setPassword] = useState("");
  const [from, setFrom] = useState(s.sender ?? "");
  const [returns, setReturns] = useState(s.returns ?? "");
  const [servers, setServers] = useState(s.servers.join(", "));
  const [selector, setSelector] = useState(s.host ? (s.selector ?? "") : "varnet");
  const [key, setKey] = useState("");
  const [daily, setDaily] = useState(s.daily);
  const save = useSenderChange(async (_: undefined) =>
    told(
      await api.PUT("/trial-letters/sender", {
        body: {
          ...server,
          sender: from,
          returns,
          servers: listed(servers),
          selector,
          daily,
          ...(password && { password }),
          ...(key.trim() && { key }),
        },
      }),
    ),
  );
  const send = (e: FormEvent) => {
    e.preventDefault();
    save.mutate(undefined);
  };
  return (
    <form onSubmit={send}>
      <h2>Sender</h2>
      <div className="settle">
        <ServerFields
          server={server}
          kept={s.password}
          password={password}
          onChange={(part) => setServer({ ...server, ...part })}
          onPassword={setPassword}
        />
        <label className="broad">
          Sender
          <Input
            value={from}
            onChange={(e) => setFrom(e.target.value)}
            placeholder="Fernhollow Seed Library <letters@fernhollow.example>"
          />
        </label>
        <label>
          Addresses the letters leave from
          <Input value={servers} onChange={(e) => setServers(e.target.value)} placeholder="192.0.2.25" />
        </label>
        <label>
          Selector of the DKIM key
          <Input value={selector} onChange={(e) => setSelector(e.target.value)} placeholder="none: not signed" />
        </label>
        <label>
          Letters a day, at most
          <InputNumber min={1} max={5000} controls={false} value={daily} onChange={(n) => n && setDaily(n)} />
        </label>
        {!s.returnsHere && (
          <label>
            Mailbox that bounces come to
            <Input
              value={returns}
              onChange={(e) => setReturns(e.target.value)}
              placeholder="bounces@fernhollow.example"
            />
          </label>
        )}
      </div>
      {selector && (
        <details>
          <summary>{s.record ? "Sign by another key" : "Sign by a key you have"}</summary>
          <Field label="Private key (PEM, RSA)" help="Left empty, Varnet makes one. It is kept sealed and never shown.">
            <Input.TextArea value={key} rows={4} onChange={(e) => setKey(e.target.value)} autoComplete="off" />
          </Field>
        </details>
      )}
      {save.error && <Trouble error={save.error} />}
      <Button
        type="primary"
        htmlType="submit"
        loading={save.isPending}
        disabled={!server.host || !from || !servers.trim()}
      >
        Save the sender
      </Button>
    </form>
  );
}

function Test({ sender: s }: { sender: Sender }) {
  const test = useSenderChange(async (_: undefined) => told(await api.POST("/trial-letters/sender/test")));
  return (
    <section>
      <h2>Whether hosts can tell that the letters are yours</h2>
      {s.record && (
        <p>
          The key that signs the letters is published as a TXT record at <code>{s.recordName}</code>{" "}
          <Copy text={s.recordName ?? ""} what="the name" />:<code className="record">{s.record}</code>
          <Copy text={s.record} what="the record" />
        </p>
      )}
      {s.testedAt ? (
        <p>
          Tested <When at={s.testedAt} />.
        </p>
      ) : (
        <p>It has not been tested since it was changed.</p>
      )}
      <Faults of={s.checks} />
      <Merits of={s.checks} />
      {test.error && <Trouble error={test.error} />}
      <For scope="manage">
        <Button loading={test.isPending} onClick={() => test.mutate(undefined)}>
          Test the sender
        </Button>
      </For>
    </section>
  );
}
