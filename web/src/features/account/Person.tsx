import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { Act } from "../../parts/Act";
import { ActsHead } from "../../parts/ActsHead";
import { Trouble, Wait } from "../../parts/Notice";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { moment } from "../../words";
import { useConfirmed } from "./Confirm";
import { Ask, Field, passwordHint } from "./Door";
import { canPasskey, makePasskey } from "./passkey";
import { usePerson, useRead } from "./queries";
import { SecondFactor } from "./SecondFactor";

type Account = Schema<"Person">;

/** Person is the account of who is signed in. */
export function Person() {
  const person = usePerson();
  if (person.error) return <Trouble error={person.error} again={() => void person.refetch()} />;
  if (!person.data) return <Wait for="your account" />;
  const p = person.data;
  return (
    <>
      <h1>Your account</h1>
      <div className="halves">
        <div>
          <Name of={p} />
          <Address of={p} />
          <Password of={p} />
        </div>
        <div>
          <SecondFactor of={p} />
          <Passkeys of={p} />
        </div>
      </div>
      <Sessions of={p} />
      <p className="after">
        <Link to="/notices/letters">Choose which letters you get about events</Link>.
      </p>
    </>
  );
}

function Name({ of: p }: { of: Account }) {
  const read = useRead();
  const [name, setName] = useState(p.name);
  const save = useMutation({
    mutationFn: async () => told(await api.PATCH("/person", { body: { name } })),
    onSuccess: read,
  });
  return (
    <section>
      <h2>Name</h2>
      <Ask
        act="Save the name"
        onSend={() => save.mutate()}
        busy={save.isPending}
        error={save.error}
        ready={name.trim() !== "" && name !== p.name}
      >
        <Field label="As your colleagues see it" value={name} onChange={setName} autoComplete="name" maxLength={100} />
      </Ask>
    </section>
  );
}

function Address({ of: p }: { of: Account }) {
  const read = useRead();
  const [address, setAddress] = useState("");
  const [code, setCode] = useState("");
  const move = useConfirmed(async () => told(await api.POST("/person/address", { body: { address } })));
  const confirm = useMutation({
    mutationFn: async () =>
      told(await api.POST("/person/address/confirm", { body: { ticket: move.data?.ticket ?? "", code } })),
    onSuccess: () => {
      move.reset();
      setAddress("");
      read();
    },
  });
  return (
    <section>
      <h2>Address</h2>
      <p>
        You sign in with <bdi>{p.address}</bdi>; letters go there.
      </p>
      {move.data ? (
        <Ask
          act="Use this address"
          onSend={() => confirm.mutate()}
          busy={confirm.isPending}
          error={confirm.error}
          ready={code.trim() !== ""}
        >
          <p role="status">{move.data.says}</p>
          <Field label="Code from the letter" value={code} onChange={setCode} autoComplete="one-time-code" />
        </Ask>
      ) : (
        <Ask
          act="Send a code there"
          onSend={() => move.mutate(undefined)}
          busy={move.isPending}
          error={move.error}
          ready={address.trim() !== ""}
        >
          <Field label="New address" value={address} onChange={setAddress} autoComplete="email" inputMode="email" />
        </Ask>
      )}
      {move.dialog}
    </section>
  );
}

function Password({ of: p }: { of: Account }) {
  const read = useRead();
  const [password, setPassword] = useState("");
  const save = useConfirmed(
    async () => told(await api.PUT("/person/password", { body: { password } })),
    () => {
      setPassword("");
      read();
    },
  );
  return (
    <section>
      <h2>Password</h2>
      {!p.password && <p>You have none, and sign in by code or passkey.</p>}
      <Ask
        act={p.password ? "Change the password" : "Set a password"}
        onSend={() => save.mutate(undefined)}
        busy={save.isPending}
        error={save.error}
        ready={password !== ""}
      >
        <Field
          label="New password"
          hint={`${passwordHint} Your other sessions end.`}
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete="new-password"
        />
      </Ask>
      {save.isSuccess && password === "" && <p role="status">The password is changed.</p>}
      {save.dialog}
    </section>
  );
}

function Passkeys({ of: p }: { of: Account }) {
  const read = useRead();
  const [name, setName] = useState("");
  const add = useConfirmed(
    async () => told(await api.POST("/person/passkeys", { body: { ...(await makePasskey()), name } })),
    () => {
      setName("");
      read();
    },
  );
  const remove = useConfirmed(
    async (id: number) => told(await api.DELETE("/person/passkeys/{id}", { params: { path: { id } } })),
    read,
  );
  return (
    <section>
      <h2>Passkeys</h2>
      <p>A passkey signs in without a password: by a fingerprint, a face or the PIN of your device.</p>
      {p.passkeys.length > 0 && (
        <table className="rows narrow">
          <thead>
            <tr>
              <th>Passkey</th>
              <th>Last used</th>
              <ActsHead />
            </tr>
          </thead>
          <tbody>
            {p.passkeys.map((k) => (
              <tr key={k.id}>
                <td>
                  <bdi>{k.name}</bdi>
                  <small className="quiet">added {moment(k.createdAt)}</small>
                </td>
                <td>{k.lastUsedAt ? <When at={k.lastUsedAt} /> : "never"}</td>
                <td>
                  <Act of={k.name} onClick={() => remove.mutate(k.id)}>
                    Remove
                  </Act>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {remove.error && <Trouble error={remove.error} />}
      {canPasskey() ? (
        <Ask
          act="Add a passkey"
          onSend={() => add.mutate(undefined)}
          busy={add.isPending}
          error={add.error}
          ready={name.trim() !== ""}
        >
          <Field label="What to call it" value={name} onChange={setName} autoComplete="off" maxLength={100} />
        </Ask>
      ) : (
        <p className="quiet">
          This browser makes none here. Passkeys are for names: open the console by the name of its host.
        </p>
      )}
      {add.dialog}
      {remove.dialog}
    </section>
  );
}

function Sessions({ of: p }: { of: Account }) {
  const client = useQueryClient();
  const go = useNavigate();
  const read = useRead();
  const end = useMutation({
    mutationFn: async (id: number) => told(await api.DELETE("/person/sessions/{id}", { params: { path: { id } } })),
    onSuccess: read,
  });
  const everywhere = useMutation({
    mutationFn: async () => told(await api.DELETE("/person/sessions")),
    onSuccess: () => {
      client.clear();
      void go("/sign-in");
    },
  });
  const error = end.error ?? everywhere.error;
  return (
    <section>
      <h2>Where you are signed in</h2>
      {error && <Trouble error={error} />}
      <Scroll label="Sessions">
        <table className="rows">
          <thead>
            <tr>
              <th>Device</th>
              <th>From</th>
              <th>Since</th>
              <th>Last used</th>
              <ActsHead />
            </tr>
          </thead>
          <tbody>
            {p.sessions.map((s) => (
              <tr key={s.id}>
                <td>
                  <bdi>{s.device}</bdi>
                  {s.commandLine && <small className="quiet">by the command line</small>}
                </td>
                <td>{s.place}</td>
                <td>{moment(s.createdAt)}</td>
                <td>
                  <When at={s.seenAt} />
                </td>
                <td>
                  {s.yours ? (
                    <span className="quiet">this one</span>
                  ) : (
                    <Act of={s.device} onClick={() => end.mutate(s.id)}>
                      Sign out
                    </Act>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
      <Button onClick={() => everywhere.mutate()} loading={everywhere.isPending}>
        Sign out everywhere
      </Button>
    </section>
  );
}
