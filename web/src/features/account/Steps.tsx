import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type Schema, told } from "../../api/client";
import { Ask, Field, passwordHint, safe } from "./Door";

export type Step = Schema<"Step">;

/** useWayIn goes on into the console once somebody is signed in, with nothing of who was before. */
export function useWayIn(to: string | null) {
  const client = useQueryClient();
  const go = useNavigate();
  return () => {
    client.clear();
    void go(safe(to), { replace: true });
  };
}

/** Steps asks for what comes next on the way in: a code, a second factor, a new password. */
export function Steps({ step, onStep }: { step: Step; onStep: (next: Step) => void }) {
  switch (step.next) {
    case "code":
      return <Code key={step.ticket} step={step} onStep={onStep} />;
    case "second-factor":
      return <Factor key={step.ticket} step={step} onStep={onStep} />;
    case "new-password":
      return <NewPassword key={step.ticket} step={step} onStep={onStep} />;
  }
  return null;
}

function Code({ step, onStep }: { step: Step; onStep: (next: Step) => void }) {
  const [code, setCode] = useState("");
  const send = useMutation({
    mutationFn: async () =>
      told(await api.POST("/sign-in/code/confirm", { body: { ticket: step.ticket ?? "", code } })),
    onSuccess: onStep,
  });
  return (
    <>
      <p role="status">{step.says}</p>
      <Ask act="Go on" onSend={() => send.mutate()} busy={send.isPending} error={send.error} ready={code.trim() !== ""}>
        <Field
          label="Code from the letter"
          value={code}
          onChange={setCode}
          autoComplete="one-time-code"
          inputMode="numeric"
          autoFocus
          maxLength={12}
        />
      </Ask>
      <p className="quiet">Nothing came? Look among the junk, or go back and have another sent.</p>
    </>
  );
}

function Factor({ step, onStep }: { step: Step; onStep: (next: Step) => void }) {
  const [code, setCode] = useState("");
  const send = useMutation({
    mutationFn: async () =>
      told(await api.POST("/sign-in/second-factor", { body: { ticket: step.ticket ?? "", code } })),
    onSuccess: onStep,
  });
  return (
    <>
      <p role="status">{step.says}</p>
      <Ask
        act="Sign in"
        onSend={() => send.mutate()}
        busy={send.isPending}
        error={send.error}
        ready={code.trim() !== ""}
      >
        <Field
          label="Second factor"
          value={code}
          onChange={setCode}
          autoComplete="one-time-code"
          autoFocus
          maxLength={24}
        />
      </Ask>
    </>
  );
}

function NewPassword({ step, onStep }: { step: Step; onStep: (next: Step) => void }) {
  const [password, setPassword] = useState("");
  const send = useMutation({
    mutationFn: async () =>
      told(await api.POST("/sign-in/new-password", { body: { ticket: step.ticket ?? "", password } })),
    onSuccess: onStep,
  });
  return (
    <>
      <p role="status">{step.says} You are signed out everywhere then.</p>
      <Ask
        act="Set the password"
        onSend={() => send.mutate()}
        busy={send.isPending}
        error={send.error}
        ready={password !== ""}
      >
        <Field
          label="New password"
          hint={passwordHint}
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete="new-password"
          autoFocus
        />
      </Ask>
    </>
  );
}
