import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Input } from "antd";
import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { api, items, type Schema, told } from "../../api/client";
import { Choice } from "../../parts/Choice";
import { Copy } from "../../parts/Copy";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { Sure } from "../../parts/Sure";
import { When } from "../../parts/When";
import { number } from "../../words";
import { ServerFields } from "../letters/ServerFields";

type Source = Schema<"BounceSource">;

const key = ["bounce-sources"];

const deeds = [
  { value: "flag" as const, label: "mark them as seen" },
  { value: "move" as const, label: "move them" },
  { value: "delete" as const, label: "delete them" },
];

/** Sources shows the mailboxes that are read and the programs that call, and adds some. */
export function Sources() {
  const sources = useQuery({ queryKey: key, queryFn: async () => items(await api.GET("/bounce-sources")) });
  if (sources.error) return <Trouble error={sources.error} again={() => void sources.refetch()} />;
  if (!sources.data) return <Wait for="the sources" />;
  return (
    <>
      <p className="path">
        <Link to="/bounces">Bounces</Link> →
      </p>
      <h1>Where bounces come from</h1>
      <p>
        A mailbox that bounces come to is read every five minutes. A program can call with what it knows, signed by a
        secret. Files are imported on the page Bounces.
      </p>
      {sources.data.length === 0 ? <p>Nothing is read, and no program calls.</p> : <Table sources={sources.data} />}
      <AddMailbox />
      <AddWebhook />
    </>
  );
}

function Table({ sources }: { sources: Source[] }) {
  return (
    <Scroll label="Sources">
      <table className="rows">
        <thead>
          <tr>
            <th>Name</th>
            <th>Where</th>
            <th className="number">Messages</th>
            <th>Last look</th>
            <th>
              <span className="unseen">Acts</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {sources.map((s) => (
            <Row key={s.id} source={s} />
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

function Row({ source: s }: { source: Source }) {
  const client = useQueryClient();
  const after = { onSuccess: () => client.invalidateQueries({ queryKey: key }) };
  const path = { params: { path: { id: s.id } } };
  const read = useMutation({
    ...after,
    mutationFn: async () => told(await api.POST("/bounce-sources/{id}/read", path)),
  });
  const remove = useMutation({
    ...after,
    mutationFn: async () => told(await api.DELETE("/bounce-sources/{id}", path)),
  });
  const error = read.error ?? remove.error;
  return (
    <tr>
      <td>
        <bdi>{s.name}</bdi>
      </td>
      <td>{s.kind === "mailbox" ? `${s.username}, ${s.folder} at ${s.host}` : <code>{s.path}</code>}</td>
      <td className="number">{number(s.messages)}</td>
      <td>
        {s.lookedAt && (
          <>
            <When at={s.lookedAt} />:{" "}
          </>
        )}
        <span className={s.failing ? "hold" : ""}>{s.says}</span>
        {error && <Trouble error={error} />}
      </td>
      <td>
        {s.kind === "mailbox" && (
          <button type="button" className="plain" disabled={read.isPending} onClick={() => read.mutate()}>
            Read now<span className="unseen"> {s.name}</span>
          </button>
        )}{" "}
        <Sure
          ask={s.kind === "mailbox" ? "Stop reading it?" : "Stop taking its calls?"}
          says="What came by it stays."
          yes="Delete it"
          onYes={() => remove.mutate()}
        >
          Delete<span className="unseen"> {s.name}</span>
        </Sure>
      </td>
    </tr>
  );
}

const empty = { host: "", port: 993, security: "tls" as const, username: "" };

function AddMailbox() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [server, setServer] = useState<Schema<"BounceMailbox">>(empty);
  const [password, setPassword] = useState("");
  const add = useMutation({
    mutationFn: async () => {
      const made = told(
        await api.POST("/bounce-sources", {
          body: { name: name || server.username, mailbox: { ...server, password } },
        }),
      );
      return told(await api.POST("/bounce-sources/{id}/read", { params: { path: { id: made.id } } }));
    },
    onSuccess: () => {
      setServer(empty);
      setName("");
      setPassword("");
    },
    onSettled: () => client.invalidateQueries({ queryKey: key }),
  });
  const send = (e: FormEvent) => {
    e.preventDefault();
    add.mutate();
  };
  return (
    <form onSubmit={send}>
      <h2>Read a mailbox (IMAP)</h2>
      <div className="settle">
        <ServerFields
          what="IMAP server"
          server={server}
          kept={false}
          password={password}
          onChange={(part) => setServer({ ...server, ...part })}
          onPassword={setPassword}
        />
        <label>
          Folder
          <Input
            value={server.folder ?? ""}
            placeholder="INBOX"
            onChange={(e) => setServer({ ...server, folder: e.target.value })}
          />
        </label>
        <Choice
          label="Messages that were read"
          value={server.then ?? "flag"}
          onChange={(then) => setServer({ ...server, then })}
          options={deeds}
        />
        {server.then === "move" && (
          <label>
            To the folder
            <Input
              value={server.thenFolder ?? ""}
              onChange={(e) => setServer({ ...server, thenFolder: e.target.value })}
            />
          </label>
        )}
        <label>
          Name
          <Input value={name} maxLength={100} placeholder="Returns" onChange={(e) => setName(e.target.value)} />
        </label>
      </div>
      {add.error && <Trouble error={add.error} />}
      <Button htmlType="submit" loading={add.isPending} disabled={!server.host || !server.username || !password}>
        Read this mailbox
      </Button>
    </form>
  );
}

function AddWebhook() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const add = useMutation({
    mutationFn: async () => told(await api.POST("/bounce-sources", { body: { name } })),
    onSuccess: () => {
      setName("");
      return client.invalidateQueries({ queryKey: key });
    },
  });
  return (
    <section>
      <h2>Let a program call</h2>
      {add.data?.secret && (
        <p role="status">
          Calls to <code>{add.data.path}</code> are signed by this secret, which is shown this once:{" "}
          <code className="record">{add.data.secret}</code>
          <Copy text={add.data.secret} what="the secret" />
        </p>
      )}
      {add.error && <Trouble error={add.error} />}
      <form
        className="add"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <Input
          aria-label="Name of the program"
          placeholder="Letter service"
          value={name}
          maxLength={100}
          onChange={(e) => setName(e.target.value)}
        />
        <Button htmlType="submit" disabled={!name.trim()} loading={add.isPending}>
          Make a secret for it
        </Button>
      </form>
    </section>
  );
}
