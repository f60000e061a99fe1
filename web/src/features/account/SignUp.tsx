import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, told } from "../../api/client";
import { Ask, Door, Field, NameAndAddress, passwordHint } from "./Door";
import { type Step, Steps, useWayIn } from "./Steps";

/** SignUp makes an account for whoever comes, once the code has proved their address. */
export function SignUp() {
  const wayIn = useWayIn("/lists");
  const [step, setStep] = useState<Step>();
  const [name, setName] = useState("");
  const [address, setAddress] = useState("");
  const [password, setPassword] = useState("");
  const on = (next: Step) => (next.next === "done" ? wayIn() : setStep(next));
  const send = useMutation({
    mutationFn: async () =>
      told(await api.POST("/sign-up", { body: { name, address, ...(password && { password }) } })),
    onSuccess: on,
  });
  if (step) {
    return (
      <Door title="Sign up">
        <Steps step={step} onStep={on} />
        <p>
          <button type="button" className="plain" onClick={() => setStep(undefined)}>
            Go back
          </button>
        </p>
      </Door>
    );
  }
  return (
    <Door title="Sign up">
      <Ask
        act="Sign up"
        onSend={() => send.mutate()}
        busy={send.isPending}
        error={send.error}
        ready={name.trim() !== "" && address.trim() !== ""}
      >
        <NameAndAddress name={name} onName={setName} address={address} onAddress={setAddress} />
        <Field
          label="Password"
          hint={`${passwordHint} Leave it empty to sign in by code each time.`}
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete="new-password"
        />
      </Ask>
      <p>
        Have an account? <Link to="/sign-in">Sign in</Link>
      </p>
    </Door>
  );
}
