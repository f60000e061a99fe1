import { useMutation } from "@tanstack/react-query";
import { Alert, Button } from "antd";
import { useState } from "react";
import { Link, useLocation, useSearchParams } from "react-router";
import { api, told } from "../../api/client";
import { Trouble } from "../../parts/Notice";
import { Ask, Door, Field, safe } from "./Door";
import { canPasskey, provePasskey } from "./passkey";
import { useWaysIn } from "./queries";
import { type Step, Steps, useWayIn } from "./Steps";

/** SignIn lets somebody in by password, code, passkey or the sign-in provider. */
export function SignIn() {
  const [search] = useSearchParams();
  // The service tells what became of a visit to the sign-in provider behind the #, where no log sees it.
  const back = new URLSearchParams(useLocation().hash.slice(1));
  const to = back.get("to") ?? search.get("to");
  const wayIn = useWayIn(to);
  const [step, setStep] = useState<Step | undefined>(
    back.get("ticket")
      ? { next: "second-factor", ticket: back.get("ticket")!, says: "Type a code of your second factor." }
      : undefined,
  );
  const on = (next: Step) => (next.next === "done" ? wayIn() : setStep(next));
  return (
    <Door title="Sign in">
      {back.get("trouble") && <Alert type="error" role="alert" className="notice" title={back.get("trouble")} />}
      {step ? (
        <>
          <Steps step={step} onStep={on} />
          <p>
            <button type="button" className="plain" onClick={() => setStep(undefined)}>
              Go back
            </button>
          </p>
        </>
      ) : (
        <Ways to={to} onStep={on} />
      )}
    </Door>
  );
}

function Ways({ to, onStep }: { to: string | null; onStep: (step: Step) => void }) {
  const ways = useWaysIn();
  const [address, setAddress] = useState("");
  const [password, setPassword] = useState("");
  const after = { onSuccess: onStep };
  const signIn = useMutation({
    ...after,
    mutationFn: async () => told(await api.POST("/sign-in/password", { body: { address, password } })),
  });
  const code = useMutation({
    ...after,
    mutationFn: async () => told(await api.POST("/sign-in/code", { body: { address } })),
  });
  const forgotten = useMutation({
    ...after,
    mutationFn: async () => told(await api.POST("/sign-in/forgotten", { body: { address } })),
  });
  const passkey = useMutation({
    ...after,
    mutationFn: async () => told(await api.POST("/sign-in/passkey", { body: await provePasskey() })),
  });
  const demo = useMutation({ ...after, mutationFn: async () => told(await api.POST("/sign-in/demo")) });
  const other = code.error ?? forgotten.error ?? passkey.error ?? demo.error ?? ways.error;
  const needsAddress = address.trim() === "";
  return (
    <>
      {ways.data?.demo && (
        <p>
          <Button type="primary" onClick={() => demo.mutate()} loading={demo.isPending}>
            Sign in as {ways.data.demo}
          </Button>{" "}
          <span className="quiet">This is a demo.</span>
        </p>
      )}
      <Ask
        act="Sign in"
        onSend={() => signIn.mutate()}
        busy={signIn.isPending}
        error={signIn.error}
        ready={!needsAddress && password !== ""}
      >
        <Field
          label="Address"
          value={address}
          onChange={setAddress}
          autoComplete="username webauthn"
          inputMode="email"
          maxLength={320}
          autoFocus
        />
        <Field
          label="Password"
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete="current-password"
        />
      </Ask>
      {other && <Trouble error={other} />}
      <ul className="ways">
        {ways.data?.letters && (
          <li>
            <Button disabled={needsAddress} loading={code.isPending} onClick={() => code.mutate()}>
              Send me a code
            </Button>
          </li>
        )}
        {canPasskey() && (
          <li>
            <Button loading={passkey.isPending} onClick={() => passkey.mutate()}>
              Use a passkey
            </Button>
          </li>
        )}
        {ways.data?.provider && (
          <li>
            <Button href={`/api/v1/sign-in/provider?${new URLSearchParams({ to: safe(to) })}`}>
              {ways.data.provider}
            </Button>
          </li>
        )}
        {ways.data?.letters && (
          <li>
            <Button disabled={needsAddress} loading={forgotten.isPending} onClick={() => forgotten.mutate()}>
              I forgot my password
            </Button>
          </li>
        )}
      </ul>
      {ways.data?.letters && needsAddress && (
        <p className="quiet">For a code, or a new password, type your address first.</p>
      )}
      {ways.data?.signUp === "open" && ways.data.letters && (
        <p>
          No account yet? <Link to="/sign-up">Sign up</Link>
        </p>
      )}
      {ways.data?.signUp === "invitation" && (
        <p className="quiet">No account yet? Ask somebody of the team for an invitation.</p>
      )}
    </>
  );
}
