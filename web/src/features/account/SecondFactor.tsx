import { Alert, Button } from "antd";
import { useState } from "react";
import { api, type Schema, told } from "../../api/client";
import { Copy } from "../../parts/Copy";
import { Trouble } from "../../parts/Notice";
import { useConfirmed } from "./Confirm";
import { Ask, Field } from "./Door";
import { useRead } from "./queries";

/** SecondFactor sets an authenticator app up and takes it away; recovery codes stand in for it. */
export function SecondFactor({ of: p }: { of: Schema<"Person"> }) {
  const read = useRead();
  const [code, setCode] = useState("");
  const draft = useConfirmed(async () => told(await api.POST("/person/second-factor")));
  const set = useConfirmed(
    async (ticket: string) => told(await api.PUT("/person/second-factor", { body: { ticket, code } })),
    () => {
      draft.reset();
      setCode("");
      read();
    },
  );
  const renew = useConfirmed(async () => told(await api.POST("/person/recovery-codes")), read);
  const remove = useConfirmed(async () => {
    told(await api.DELETE("/person/second-factor"));
    set.reset();
    renew.reset();
  }, read);
  const codes = renew.data?.codes ?? set.data?.codes;
  const error = draft.error ?? renew.error ?? remove.error;
  return (
    <section>
      <h2>Second factor</h2>
      {p.secondFactor ? (
        <p>Signing in also takes a code from your authenticator app. {p.recoveryCodes} recovery codes are left.</p>
      ) : (
        <p>None. With one, a stolen password alone opens nothing.</p>
      )}
      {codes && <Recovery codes={codes} />}
      {error && <Trouble error={error} />}
      {!p.secondFactor && draft.data && (
        <>
          <p>Scan this with your authenticator app, or type the secret. Then type the code that it shows.</p>
          <img
            className="qr"
            alt="QR code with the secret for your authenticator app"
            src={`data:image/svg+xml,${encodeURIComponent(draft.data.qr)}`}
            width={196}
            height={196}
          />
          <p>
            <code className="secret">{draft.data.secret}</code> <Copy text={draft.data.secret} what="the secret" />
          </p>
          <Ask
            act="Turn it on"
            onSend={() => set.mutate(draft.data?.ticket ?? "")}
            busy={set.isPending}
            error={set.error}
            ready={code.trim() !== ""}
          >
            <Field
              label="Code of the app"
              value={code}
              onChange={setCode}
              autoComplete="one-time-code"
              inputMode="numeric"
              maxLength={12}
            />
          </Ask>
        </>
      )}
      <span className="acts">
        {p.secondFactor ? (
          <>
            <Button onClick={() => renew.mutate(undefined)} loading={renew.isPending}>
              New recovery codes
            </Button>
            <Button onClick={() => remove.mutate(undefined)} loading={remove.isPending}>
              Remove it
            </Button>
          </>
        ) : (
          !draft.data && (
            <Button onClick={() => draft.mutate(undefined)} loading={draft.isPending}>
              Set one up
            </Button>
          )
        )}
      </span>
      {draft.dialog}
      {set.dialog}
      {renew.dialog}
      {remove.dialog}
    </section>
  );
}

function Recovery({ codes }: { codes: string[] }) {
  return (
    <Alert
      type="success"
      role="status"
      className="notice"
      title="Your recovery codes, shown only now"
      description={
        <>
          <p>Each signs you in once when the app is lost. Print them, or put them where your passwords are.</p>
          <ul className="codes">
            {codes.map((c) => (
              <li key={c}>
                <code>{c}</code>
              </li>
            ))}
          </ul>
          <Copy text={codes.join("\n")} what="the recovery codes" />
        </>
      }
    />
  );
}
