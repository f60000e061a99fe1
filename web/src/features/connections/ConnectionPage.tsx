import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Input } from "antd";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { Field } from "../../parts/Field";
import { For } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";
import { Sure } from "../../parts/Sure";
import { moment } from "../../words";
import { Collections } from "./Collections";
import { connectionKeys, useConnection, useKinds } from "./queries";
import { SettingsForm } from "./SettingsForm";
import { WriteBacks } from "./WriteBacks";

type Connection = Schema<"Connection">;

/** ConnectionPage shows a connection: how it is, what it offers, what came from it and went back. */
export function ConnectionPage() {
  const id = Number(useParams().id);
  const connection = useConnection(id);
  const [editing, setEditing] = useState(false);
  const c = connection.data;
  if (connection.error) return <Trouble error={connection.error} again={() => void connection.refetch()} />;
  if (!c) return <Wait for="the connection" />;
  return (
    <>
      <p className="path">
        <Link to="/connections">Connections</Link> →
      </p>
      <h1>
        <bdi>{c.name}</bdi>
      </h1>
      <State of={c} />
      <For scope="manage">
        <Acts of={c} onEdit={() => setEditing(!editing)} />
        {editing && <Edit of={c} done={() => setEditing(false)} />}
      </For>
      <Collections of={c} />
      {c.takes.length > 0 && (
        <section>
          <h2>Written back</h2>
          <WriteBacks of={{ connection: id }} />
        </section>
      )}
    </>
  );
}

function State({ of: c }: { of: Connection }) {
  const tested = c.testedAt && <span className="quiet"> Tested {moment(c.testedAt)}.</span>;
  if (c.works)
    return (
      <p className="sentence">
        <bdi>{c.says}</bdi>
        {tested}
      </p>
    );
  return (
    <Alert
      type="error"
      role="status"
      className="notice"
      title={
        <>
          It does not work. <bdi>{c.says}</bdi>
          {tested}
        </>
      }
    />
  );
}

function Acts({ of: c, onEdit }: { of: Connection; onEdit: () => void }) {
  const client = useQueryClient();
  const go = useNavigate();
  const path = { params: { path: { id: c.id } } };
  const test = useMutation({
    mutationFn: async () => told(await api.POST("/connections/{id}/test", path)),
    onSuccess: (k) => client.setQueryData(connectionKeys.one(c.id), k),
  });
  const signIn = useMutation({
    mutationFn: async () =>
      told(await api.POST("/connections/{id}/sign-in", { ...path, body: { origin: location.origin } })),
    onSuccess: (p) => location.assign(p.url),
  });
  const remove = useMutation({
    mutationFn: async () => told(await api.DELETE("/connections/{id}", path)),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: connectionKeys.all });
      void go("/connections");
    },
  });
  const trouble = test.error ?? signIn.error ?? remove.error;
  return (
    <>
      {trouble && <Trouble error={trouble} />}
      <div className="acts">
        {c.signIn && (
          <Button type={c.works ? "default" : "primary"} loading={signIn.isPending} onClick={() => signIn.mutate()}>
            {c.secrets.includes("token") ? "Sign in there again" : "Sign in there"}
          </Button>
        )}
        <Button loading={test.isPending} onClick={() => test.mutate()}>
          Test it
        </Button>
        <button type="button" className="plain" onClick={onEdit}>
          Change the settings
        </button>
        <Sure
          ask="Delete this connection?"
          says="Its lists stay. The journals of what was written back go, and with them the way to undo it. Nothing changes at the place."
          yes="Delete it"
          onYes={() => remove.mutate()}
        >
          Delete it
        </Sure>
      </div>
    </>
  );
}

/** Edit changes the settings; a secret that is not entered stays what it was. */
function Edit({ of: c, done }: { of: Connection; done: () => void }) {
  const client = useQueryClient();
  const kinds = useKinds();
  const [name, setName] = useState(c.name);
  const [settings, setSettings] = useState<Record<string, string>>(c.settings);
  const save = useMutation({
    mutationFn: async () =>
      told(await api.PATCH("/connections/{id}", { params: { path: { id: c.id } }, body: { name, settings } })),
    onSuccess: (k) => {
      client.setQueryData(connectionKeys.one(c.id), k);
      done();
      return client.invalidateQueries({ queryKey: ["collections", c.id] });
    },
  });
  const kind = kinds.data?.find((k) => k.code === c.kind);
  if (!kind) return null;
  return (
    <form
      className="settings"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <Field label="Name">
        <Input value={name} maxLength={100} onChange={(e) => setName(e.target.value)} />
      </Field>
      <SettingsForm kind={kind} value={settings} kept={c.secrets} onChange={setSettings} />
      {save.error && <Trouble error={save.error} />}
      <div className="acts">
        <Button type="primary" htmlType="submit" disabled={!name.trim()} loading={save.isPending}>
          Save and test
        </Button>
        <button type="button" className="plain" onClick={done}>
          Leave it as it is
        </button>
      </div>
    </form>
  );
}
